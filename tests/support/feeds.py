"""Running a feed in this process, without the service: the core alone, on real HTTP and a real SQLite file."""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from reedbasket.core.allowed_paths import Places
from reedbasket.core.runs import ResolvedRun, RunContext, RunResult, TableProgress, resolve, run_feed
from reedbasket.core.runs.events import DeletedKeys
from reedbasket.core.shaping import Change, Reject
from reedbasket.core.sources.pacer import LocalPacer
from reedbasket.core.sources.requests_seen import RequestSeen
from reedbasket.core.spec import load_texts
from reedbasket.core.warehouses import LedgerLine

BASKET = """
connector: test-api
type: http
settings: {{url: {{type: url}}, token: {{type: secret}}}}
base_url: "{{settings.url}}"
auth: {{type: bearer, token: "{{settings.token}}"}}
timeouts: {{connect: {connect}, read: {read}, total: {total}}}
retry: {{attempts: 3, first_wait: 10ms, max_wait: 50ms}}
tables:
  - table: things
    get: /things
    query_params: {{since: "{{cursor.from}}"}}
    records: items
    total: meta.total
    pagination: {{by: page_token, at: meta.next, param: after}}
    {key}
    cursor: {{column: updated_at, overlap: {overlap}, sorted: true{cursor}}}
---
source: test
connector: test-api
settings: {{url: "{url}", token: {{secret: test_token}}}}
---
warehouse: marsh
{warehouse}
---
feed: test
from: test
into: marsh
rows_per_commit: {rows_per_commit}
tables: [{{table: things, changes: {{by: {by}}}, write: {write}{table}}}]
{feed}
"""

SECRET = "planted-secret-7f3a/+="
SECRETS: dict[str, str] = {}


def basket_text(
    url: str,
    *,
    key: str = "id",
    by: str = "cursor",
    write: str = "upsert",
    overlap: str = "0s",
    rows_per_commit: int = 100_000,
    read: float = 2,
    cursor: str = "",
    table: str = "",
    feed: str = "",
    warehouse: str = "type: sqlite\npath: marsh.db",
) -> str:
    """table: further keys of the feed's table, after a comma; feed: further lines of the feed. read: seconds to wait for an answer; more
    where a test holds answers back itself."""
    return BASKET.format(
        url=url,
        key=f"primary_key: {key}" if key else "",
        by=by,
        write=write,
        overlap=overlap,
        rows_per_commit=rows_per_commit,
        connect=max(2, read),
        read=read,
        total=max(5, read),
        cursor=cursor,
        table=f", {table}" if table else "",
        feed=feed,
        warehouse=warehouse,
    )


@dataclass
class Heard:
    """A listener that keeps everything."""

    lines: list[tuple[str, str, str]] = field(default_factory=list)
    requests: list[RequestSeen] = field(default_factory=list)
    rejected: list[Reject] = field(default_factory=list)
    rejected_in: list[str] = field(default_factory=list)
    met_all: list[tuple[str, str]] = field(default_factory=list)
    drifted: list[Change] = field(default_factory=list)
    ledger: list[LedgerLine] = field(default_factory=list)
    phases: list[tuple[str, str]] = field(default_factory=list)

    def log(self, level: str, code: str, message: str, table: str | None = None) -> None:
        self.lines.append((level, code, message))

    def request(self, table: str, seen: RequestSeen) -> None:
        self.requests.append(seen)

    def progress(self, progress: TableProgress) -> None:
        self.phases.append((progress.table, progress.phase))

    def rejects(self, table: str, rejects: Sequence[Reject], warehouse: str = "") -> None:
        self.rejected += rejects
        self.rejected_in += [warehouse] * len(rejects)

    def saw_all_records(self, table: str, warehouse: str = "") -> None:
        self.met_all.append((table, warehouse))

    def rows_deleted(self, table: str, key: Sequence[str], keys: DeletedKeys | None, warehouse: str = "") -> None:
        """What of it a test wants to know, it keeps itself."""

    def drift(self, table: str, changes: Sequence[Change], warehouse: str = "") -> None:
        self.drifted += changes

    def loaded(self, lines: Sequence[LedgerLine], warehouse: str = "") -> None:
        self.ledger += lines

    def codes(self) -> list[str]:
        return [code for _, code, _ in self.lines]


def order_for(text: str, *, run: int = 1, started: datetime | None = None, accept: bool = False) -> ResolvedRun:
    basket = load_texts({"basket.yaml": text})
    return resolve(basket, "test", run=run, version=1, started=started or datetime.now(UTC), accept=accept)


def run_context_for(order: ResolvedRun, folder: Path, stop: threading.Event | None = None) -> RunContext:
    """Every secret is the planted one, or what stands behind its name in SECRETS."""
    pacer = LocalPacer(order.rate_limit, order.retry)
    return RunContext(lambda name: SECRETS.get(name, SECRET), Places.anywhere(folder), pacer, stop or threading.Event())


def run_once(
    text: str,
    folder: Path,
    *,
    run: int = 1,
    stop: threading.Event | None = None,
    started: datetime | None = None,
    heard: Heard | None = None,
    accept: bool = False,
) -> tuple[RunResult, Heard]:
    heard = heard or Heard()
    order = order_for(text, run=run, started=started, accept=accept)
    return run_feed(order, run_context_for(order, folder, stop), listener=heard, clock=lambda: datetime.now(UTC)), heard


def table_rows(folder: Path, table: str, *, own: bool = False) -> list[dict[str, Any]]:
    """All rows of a warehouse table, sorted; without the loader's own columns unless asked for."""
    db = sqlite3.connect(folder / "marsh.db")
    db.row_factory = sqlite3.Row
    try:
        rows = [dict(r) for r in db.execute(f'select * from "{table}"')]
    finally:
        db.close()
    if not own:
        rows = [{k: v for k, v in r.items() if k not in ("_rb_ledger_line", "_rb_loaded_at")} for r in rows]
    return sorted(rows, key=lambda r: repr(sorted(r.items(), key=lambda i: i[0])))
