"""A connector's folder, run in this process into a scratch warehouse: no service, no store."""

from __future__ import annotations

import json
import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path

from typing_extensions import override

from ...allowed_paths import Places
from ...errors import DefinitionError
from ...shaping import Change, Reject
from ...sources.http.recording import Tape
from ...sources.pacer import LocalPacer
from ...sources.python.description import described
from ...sources.requests_seen import RequestSeen
from ...spec import Basket, load_texts
from ...spec.basket import read_folder
from ...spec.http import HttpTable
from ...warehouses import LedgerLine, Warehouse, open_warehouse
from ..events import Gone, Level, Listener, RunOutcome, TableProgress
from ..planning.discovered_tables import tables_at, with_discovered
from ..planning.order import ResolvedRun, resolve
from ..request_context import RunContext
from .feed import RunResult, run_feed

FEED, WAREHOUSE = "try", "scratch"
Reveal = Callable[[str], str]


@dataclass
class RecordingListener(Listener):
    """A listener that keeps what it hears. on_progress: is told of every step."""

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
    def all_met(self, table: str, warehouse: str = "") -> None:
        """Nothing is kept from one run to the next."""

    @override
    def gone(self, table: str, key: Sequence[str], keys: Gone | None, warehouse: str = "") -> None:
        """As above."""

    @override
    def drift(self, table: str, changes: Sequence[Change], warehouse: str = "") -> None:
        """It stands in the log."""

    @override
    def loaded(self, lines: Sequence[LedgerLine], warehouse: str = "") -> None:
        self.ledger += lines


@dataclass
class Alone:
    """scratch: where the warehouse's file is. reveal: a secret by name. asked: tables that only the source knows, asked for once."""

    basket: Basket
    source: str
    scratch: Path
    reveal: Reveal
    tape: Tape | None = None
    runs: int = 0
    asked: dict[str, HttpTable] | None = None

    @property
    def order(self) -> ResolvedRun:
        """Of the next run; at the moment of the recording, where there is one."""
        started = self.tape.started if self.tape else datetime.now(UTC)
        order = resolve(self.basket, FEED, run=self.runs + 1, version=1, started=started)
        if order.asked is None:
            return order
        if self.asked is None:
            self.asked = tables_at(order, self.context(order))
        return with_discovered(order, self.asked).order

    def context(self, order: ResolvedRun, stop: threading.Event | None = None) -> RunContext:
        """What a run of it needs from outside: secrets, pace, stop."""
        limit = order.rate_limit
        if self.tape is not None and self.tape.way != "record":
            # Recorded answers may come as fast as they can.
            limit = limit.model_copy(update={"per_second": None, "per_hour": None, "per_day": None})
        pacer = LocalPacer(limit, order.retry)
        return RunContext(self.reveal, Places.anywhere(self.scratch), pacer, stop or threading.Event(), tape=self.tape)

    def run(self, kept: RecordingListener, stop: threading.Event | None = None) -> RunResult:
        """Run all its tables, one after the other."""
        order = self.order
        self.runs += 1
        return run_feed(order, self.context(order, stop), listener=kept, clock=lambda: datetime.now(UTC))

    def warehouse(self) -> Warehouse:
        """To be closed by whoever asks."""
        return open_warehouse(self.basket.warehouses[WAREHOUSE], Places.anywhere(self.scratch), self.reveal)


def opened(
    folder: Path,
    scratch: Path,
    reveal: Reveal,
    *,
    source: str | None = None,
    tables: Sequence[str] = (),
    file: str = "scratch.db",
    tape: Tape | None = None,
) -> Alone:
    """folder: of definitions, a connector and a source among them. tables: all of the connector where none is named. file: its ending says
    which engine. Raises DefinitionError."""
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
    return Alone(whole, named[0], scratch, reveal, tape)


def well(result: RunResult) -> bool:
    """Whether all of a run came in."""
    return result.outcome is RunOutcome.SUCCEEDED
