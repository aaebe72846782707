"""A worker process: runs feeds one after another, as the service orders.

In:  {"run": 12}  {"cancel": 12}  {"wind_up": 1}     the end of the orders ends the process at once
Out: {"ready": pid}  {"alive": pid}  {"told": 12}  {"done": 12, "retiring": 0}
"""

from __future__ import annotations

import gc
import os
import resource
import shutil
import sys
import threading
import time
import traceback
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import replace
from datetime import UTC, datetime
from multiprocessing.connection import Connection
from pathlib import Path
from queue import SimpleQueue
from typing import Any

from ..core import outgoing
from ..core.errors import ReedError
from ..core.memory import share_one_pool
from ..core.runs import RunOutcome, resolve, run_feed
from ..core.runs.execution.extract import into_folder, write_extract
from ..core.runs.execution.preload import import_drivers
from ..core.runs.execution.replay import Replayed
from ..core.spec.times import parse_time
from ..core.spec.warehouse import Warehouse
from ..core.warehouses import open_warehouse
from ..store import Store, definitions, extracts, journal, runs, secrets
from .listener import StoreListener
from .reach import Reach
from .run_context import run_context_of

# As the system lists it; at most 15 letters.
WORKER_NAME = "reed worker"
HEARTBEAT_SECONDS = 5.0
# A worker that has grown past this ends itself between two runs and is replaced; well under the 300 MB promised.
_RETIRE_BYTES = 240 * 1024 * 1024


def run_worker(orders: Connection, words: Connection, folder: Path, reach: Reach) -> None:
    """The whole life of the process, which was forked from one that has imported everything.

    Args:
        orders: from the service.
        words: to the service.
        folder: the service's data folder.
        reach: what definitions may reach.
    """
    os.setsid()  # a Ctrl-C in the terminal is the service's to handle
    Path("/proc/self/comm").write_text(WORKER_NAME)
    nowhere = os.open(os.devnull, os.O_WRONLY)
    os.dup2(nowhere, sys.stdout.fileno())  # what a driver prints is for nobody, and may hold anything
    outgoing.install(reach.outgoing)
    worker = Worker(folder, reach.folders, words)
    threading.Thread(target=worker.listen, args=(orders,), name="listen", daemon=True).start()
    threading.Thread(target=worker.send_heartbeats, name="heartbeat", daemon=True).start()
    code = 0
    try:
        worker.work()
    except BaseException:
        traceback.print_exc()
        code = 1
    sys.stderr.flush()
    # Not by way of the interpreter's own end, which would wait for the thread that listens.
    os._exit(code)


class Worker:
    """`_lock` guards what is said, the present run, and the runs that have to stop.

    Args:
        words: where it says how it goes on; None if nobody listens.
    """

    def __init__(self, folder: Path, allowed: Sequence[Path], words: Connection | None = None) -> None:
        self._words = words
        self._store = Store(folder, allowed)
        self._orders: SimpleQueue[int] = SimpleQueue()
        self._lock = threading.Lock()
        self._current: int | None = None
        self._stop = threading.Event()
        self._wind_up = threading.Event()
        self._cancelled: set[int] = set()

    # Listener's thread

    def listen(self, orders: Connection) -> None:
        """Read orders from the service until it is gone."""
        while True:
            try:
                order = orders.recv()
            except (EOFError, OSError):
                # The service is gone. A run may be cut at any point without harm, and must not go on beside the next service's.
                os._exit(0)
            if "run" in order:
                self._orders.put(order["run"])
            elif "wind_up" in order:
                self._wind_up.set()
            elif "cancel" in order:
                with self._lock:
                    # It may come before the run it means has begun here.
                    self._cancelled.add(order["cancel"])
                    if order["cancel"] == self._current:
                        self._stop.set()

    def send_heartbeats(self) -> None:
        """A separate thread: if it falls silent, the whole process hangs, and the service kills it."""
        while True:
            time.sleep(HEARTBEAT_SECONDS)
            self._tell(alive=os.getpid())

    # Main thread

    def prepare(self) -> None:
        """Once for each process, before the first run."""
        places = definitions.places(self._store)
        import_drivers(places["source"], places["warehouse"])
        share_one_pool()
        # Parsed pages are many small objects without cycles; collecting at Python's default pace costs a sixth of a run. What was
        # imported is frozen out of it for good. Half a million objects in cycles would take some 50 MB.
        gc.collect()
        gc.freeze()
        gc.set_threshold(500_000, 20, 100)
        # A first order is answered quicker when nothing is left to be opened.
        self._store.connection.execute("select 1")

    def work(self) -> None:
        """Execute runs, one after the other."""
        self.prepare()
        self._tell(ready=os.getpid())
        while True:
            run = self._orders.get()
            with self._lock:
                self._current = run
                self._stop = threading.Event()
                if run in self._cancelled:
                    self._stop.set()
            self._run(run)
            with self._lock:
                self._current = None
                self._cancelled.discard(run)
            retiring = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024 > _RETIRE_BYTES
            self._tell(done=run, retiring=int(retiring))
            if retiring:
                return

    def _run(self, run: int) -> None:
        listener = StoreListener(self._store, run, told=lambda: self._tell(told=run))
        try:
            outcome, error = self._execute(run, listener)
        except ReedError as failed:
            outcome, error = RunOutcome.FAILED, failed.as_dict()
            listener.log("error", failed.code, str(failed))
        except Exception as defect:  # a defect of ours: the run says so, and the service goes on
            where = _where(defect)
            error = {
                **ReedError(
                    "running the feed", found=f"{type(defect).__name__} in {where}", fix="report it with the log"
                ).as_dict(),
                "code": "run.defect",
            }
            outcome = RunOutcome.FAILED
            listener.log("error", "run.defect", f"a bug in Reed Basket: {type(defect).__name__} in {where}")
        listener.close()
        runs.end(self._store, run, outcome, error)

    def _execute(self, run: int, listener: StoreListener) -> tuple[RunOutcome, dict[str, Any] | None]:
        store = self._store
        asked = runs.get(store, run)
        order = resolve(
            definitions.basket(store),
            asked["feed"],
            run=run,
            version=asked["feed_version"],
            started=datetime.now(UTC),
            accept=asked["allow_loss"],
            again=asked["replay"],
            window=(parse_time(asked["window"][0]), parse_time(asked["window"][1])) if asked["window"] else None,
            backfill=asked["backfill"] or 0,
            sets=asked["sets"],
            bodies=asked["bodies"],
        )
        made = extracts.folder_of(store, asked["feed"], run) if asked["extract"] else None
        if made is not None:
            order = into_folder(order, made)
        runs.save_order(store, run, order.model_dump_json(by_alias=True))
        listener.begin(order)
        if made is None:
            for one in (order, *order.others):
                try:
                    self._catch_up(one.warehouse, order.feed)
                except ReedError as error:
                    if not order.others:
                        raise
                    # The others are loaded all the same; this one's ledger is copied once it answers.
                    listener.log("warning", error.code, f"{one.warehouse.warehouse}: {error}")
        replay = journal.rejects_to_replay(store, order.feed, order.warehouse.warehouse, run) if order.again else {}
        again = (
            {place: Replayed(held.records, held.runs, held.files) for place, held in replay.items()} if order.again else None
        )
        places = replace(store.places, lent=made)
        context = run_context_of(store, order, self._stop, self._wind_up, places)
        result = run_feed(order, context, listener=listener, clock=lambda: datetime.now(UTC), again=again)
        if made is not None and result.outcome is RunOutcome.SUCCEEDED:
            warehouse = open_warehouse(order.warehouse, places, self._reveal)
            try:
                manifest = write_extract(order, warehouse, made, datetime.now(UTC))
            finally:
                warehouse.close()
            rows = sum(table["rows"] for table in manifest["tables"])
            listener.log("info", "extract.written", f"{len(manifest['tables'])} tables, {rows:,} rows, as files in {made.name}")
        elif made is not None:
            shutil.rmtree(made, ignore_errors=True)
        for table in result.tables:
            loaded = replay.get((table.warehouse or order.warehouse.warehouse, table.table))
            if loaded is not None and table.phase == "done":
                journal.drop_replayed_rejects(store, loaded.ids, run)
        return result.outcome, result.error

    def _reveal(self, name: str) -> str:
        return secrets.reveal(self._store, name)

    def _catch_up(self, place: Warehouse, feed: str) -> None:
        """Copy ledger lines that a killed worker committed and did not tell."""
        name, warehouse = place.warehouse, open_warehouse(place, self._store.places, self._reveal)
        try:
            while lines := warehouse.ledger(feed=feed, after=journal.last_load(self._store, name, feed)):
                with self._store.transaction() as connection:
                    journal.keep_ledger(connection, name, lines)
        finally:
            warehouse.close()

    def _tell(self, **what: int) -> None:
        if self._words is not None:
            with self._lock, suppress(OSError):  # the service is gone, and so is this process in a moment
                self._words.send(what)


def _where(defect: Exception) -> str:
    """File and line only: a message or a value could hold a secret."""
    at = defect.__traceback__
    while at is not None and at.tb_next is not None:
        at = at.tb_next
    return f"{Path(at.tb_frame.f_code.co_filename).name}:{at.tb_lineno}" if at else "unknown place"
