"""Running a folder of definitions in this process into a scratch warehouse, without a service and its store."""

from __future__ import annotations

import json
import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path

from typing_extensions import override

from ..core.allowed_paths import Places
from ..core.errors import DefinitionError
from ..core.runs.events import DeletedKeys, Level, Listener, RunOutcome, TableProgress
from ..core.runs.execution.feed import RunResult, run_feed
from ..core.runs.planning.discovered_tables import tables_at, with_discovered_tables
from ..core.runs.planning.order import ResolvedRun, resolve
from ..core.runs.request_context import RunContext
from ..core.shaping import Change, Reject
from ..core.sources.http.recording import Recording
from ..core.sources.pacer import LocalPacer
from ..core.sources.python.description import described
from ..core.sources.requests_seen import RequestSeen
from ..core.spec import Basket, load_texts
from ..core.spec.basket import read_folder
from ..core.spec.http import HttpTable
from ..core.warehouses import LedgerLine, Warehouse, open_warehouse

FEED, WAREHOUSE = "try", "scratch"
Reveal = Callable[[str], str]


@dataclass
class RecordingListener(Listener):
    """A listener that keeps what it is told.

    Args:
        on_progress: called at every step.
    """

    on_progress: Callable[[TableProgress], None] = lambda progress: None
    lines: list[tuple[Level, str, str, str | None]] = field(default_factory=list)
    requests: list[RequestSeen] = field(default_factory=list)
    rejected: list[Reject] = field(default_factory=list)
    ledger: list[LedgerLine] = field(default_factory=list)

    @override
    def log(self, level: Level, code: str, message: str, table: str | None = None) -> None:
        self.lines.append((level, code, message, table))

    @override
    def request(self, table: str, seen: RequestSeen) -> None:
        self.requests.append(seen)

    @override
    def progress(self, progress: TableProgress) -> None:
        self.on_progress(progress)

    @override
    def rejects(self, table: str, rejects: Sequence[Reject], warehouse: str = "") -> None:
        self.rejected += rejects

    @override
    def saw_all_records(self, table: str, warehouse: str = "") -> None:
        """Does nothing: rejects are not kept from one run to the next."""

    @override
    def rows_deleted(self, table: str, key: Sequence[str], keys: DeletedKeys | None, warehouse: str = "") -> None:
        """Does nothing: rejects are not kept from one run to the next."""

    @override
    def drift(self, table: str, changes: Sequence[Change], warehouse: str = "") -> None:
        """Does nothing: the log has it."""

    @override
    def loaded(self, lines: Sequence[LedgerLine], warehouse: str = "") -> None:
        self.ledger += lines


@dataclass
class StandaloneRun:
    """A folder's definitions, ready to run.

    Attributes:
        scratch: the folder of the warehouse's file.
        reveal: gives a secret by its name.
        asked: tables that only the source knows; it is asked once.
    """

    basket: Basket
    source: str
    scratch: Path
    reveal: Reveal
    tape: Recording | None = None
    runs: int = 0
    asked: dict[str, HttpTable] | None = None

    @property
    def order(self) -> ResolvedRun:
        """The next run, resolved. With a recording, it takes place at the time of the recording."""
        started = self.tape.started if self.tape else datetime.now(UTC)
        order = resolve(self.basket, FEED, run=self.runs + 1, version=1, started=started)
        if order.asked is None:
            return order
        if self.asked is None:
            self.asked = tables_at(order, self.context(order))
        return with_discovered_tables(order, self.asked).order

    def context(self, order: ResolvedRun, stop: threading.Event | None = None) -> RunContext:
        """What the run needs from outside: secrets, pace, stop."""
        limit = order.rate_limit
        if self.tape is not None and self.tape.way != "record":
            # Recorded answers may come as fast as they can.
            limit = limit.model_copy(update={"per_second": None, "per_hour": None, "per_day": None})
        pacer = LocalPacer(limit, order.retry)
        return RunContext(self.reveal, Places.anywhere(self.scratch), pacer, stop or threading.Event(), tape=self.tape)

    def run(self, kept: RecordingListener, stop: threading.Event | None = None) -> RunResult:
        """Run all tables, one after the other."""
        order = self.order
        self.runs += 1
        return run_feed(order, self.context(order, stop), listener=kept, clock=lambda: datetime.now(UTC))

    def warehouse(self) -> Warehouse:
        """The scratch warehouse. Whoever asks for it closes it."""
        return open_warehouse(self.basket.warehouses[WAREHOUSE], Places.anywhere(self.scratch), self.reveal)


def opened(
    folder: Path,
    scratch: Path,
    reveal: Reveal,
    *,
    source: str | None = None,
    tables: Sequence[str] = (),
    file: str = "scratch.db",
    tape: Recording | None = None,
) -> StandaloneRun:
    """Prepare to run a folder's definitions.

    Args:
        folder: contains a connector and a source.
        tables: which tables of the connector; all if empty.
        file: the warehouse's file; its ending decides the engine.

    Raises:
        DefinitionError: a definition has mistakes.
    """
    texts = read_folder(folder)
    basket = load_texts(texts, describe=described)
    named = [source] if source else sorted(basket.sources)
    if len(named) != 1 or named[0] not in basket.sources or basket.sources[named[0]].connector is None:
        raise DefinitionError(
            "trying the connector in",
            str(folder),
            found=f"sources: {', '.join(sorted(basket.sources)) or 'none'}",
            fix="add a source that uses the connector (`source: NAME`, `connector: …`, `settings: …`), or name one of several",
            code="definition.no_source",
        )
    connector = basket.connectors[basket.sources[named[0]].connector or ""]
    chosen = list(tables) or (["*"] if connector.discover_tables else list(connector.tables))
    on = "duckdb" if file.endswith(".duckdb") else "sqlite"
    lines = "".join(f"  - {json.dumps(table)}\n" for table in chosen)
    made = f"warehouse: {WAREHOUSE}\ntype: {on}\npath: {file}\n---\nfeed: {FEED}\nfrom: {named[0]}\ninto: {WAREHOUSE}\ntables:\n{lines}"
    scratch.mkdir(parents=True, exist_ok=True)
    whole = load_texts({**texts, "(the trial)": made}, describe=described)
    return StandaloneRun(whole, named[0], scratch, reveal, tape)


def well(result: RunResult) -> bool:
    """Whether everything of a run was loaded."""
    return result.outcome is RunOutcome.SUCCEEDED
