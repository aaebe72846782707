"""What runs leave behind: log lines, a copy of the ledger, rejects."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any

from .. import wire
from ..core.changes.digest import exact_digest
from ..core.records.exact_json import dump_lenient
from ..core.shaping import Change, Reject
from ..core.warehouses import LedgerLine
from ..wire.typed import typed
from .database import Store, now_text

_LEDGER_COLUMNS = list(LedgerLine.__dataclass_fields__)
_LEDGER_LIST = ", ".join(f'"{c}"' for c in _LEDGER_COLUMNS)


def save_log(connection: sqlite3.Connection, run: int, first: int, lines: Sequence[tuple[Any, ...]]) -> None:
    """Write log lines, within the caller's transaction.

    Args:
        first: the number of the first line.
        lines: (at, level, code, table, message, data or None).
    """
    connection.executemany(
        'insert into log (run, number, at, level, code, "table", message, data) values (?, ?, ?, ?, ?, ?, ?, ?)',
        [(run, first + i, *line[:-1], json.dumps(line[-1]) if line[-1] else None) for i, line in enumerate(lines)],
    )


def next_number(store: Store, run: int) -> int:
    """The next number in a run's log."""
    return next_number_in(store.connection, run)


def next_number_in(connection: sqlite3.Connection, run: int) -> int:
    """The same within a transaction, so that nobody else takes it."""
    return int(connection.execute("select coalesce(max(number), 0) + 1 from log where run = ?", (run,)).fetchone()[0])


def line(level: str, code: str, message: str) -> tuple[Any, ...]:
    """A line for `save_log`, with the present time."""
    return (now_text(), level, code, None, message, None)


def add_log(store: Store, run: int, level: str, code: str, message: str) -> None:
    """Write one line, from the service."""
    with store.transaction() as connection:
        save_log(connection, run, next_number_in(connection, run), [line(level, code, message)])


def read_log(store: Store, run: int, *, after: int = 0, limit: int = 500) -> list[wire.LogLine]:
    """Lines with number > after, in order."""
    rows = store.connection.execute(
        'select number, at, level, code, "table", message, data from log where run = ? and number > ? order by number limit ?',
        (run, after, limit),
    )
    return [typed(wire.LogLine, r, data=json.loads(r["data"]) if r["data"] else None) for r in rows]


def keep_ledger(connection: sqlite3.Connection, warehouse: str, lines: Sequence[LedgerLine]) -> None:
    """Copy ledger lines, within the caller's transaction; lines that exist already stay."""
    connection.executemany(
        f"""insert into ledger (warehouse, {_LEDGER_LIST}) values (?, {", ".join("?" * len(_LEDGER_COLUMNS))})
            on conflict do nothing""",
        [(warehouse, *(getattr(line, c) for c in _LEDGER_COLUMNS)) for line in lines],
    )


def last_load(store: Store, warehouse: str, feed: str) -> int:
    """The last load of a feed whose ledger lines were copied from a warehouse; 0 if there is none."""
    row = store.connection.execute(
        "select coalesce(max(load), 0) from ledger where warehouse = ? and feed = ?", (warehouse, feed)
    ).fetchone()
    return int(row[0])


def read_ledger(store: Store, *, feed: str | None = None, run: int | None = None, limit: int = 200) -> list[wire.LedgerLine]:
    """The latest lines first; `reconciles` is computed again from the counts."""
    rows = store.connection.execute(
        f"""select warehouse, {_LEDGER_LIST} from ledger
            where (? is null or feed = ?) and (? is null or run = ?) order by started desc, load desc limit ?""",
        (feed, feed, run, run, limit),
    )
    found = []
    for row in rows:
        line = LedgerLine(**{c: row[c] for c in _LEDGER_COLUMNS})
        found.append(typed(wire.LedgerLine, line.as_dict(), warehouse=row["warehouse"], reconciles=line.reconciles))
    return found


def save_drift(
    connection: sqlite3.Connection, feed: str, warehouse: str, run: int, source_table: str, changes: Sequence[Change]
) -> None:
    """Write changes of structure, within the caller's transaction."""
    connection.executemany(
        """insert into drift (feed, warehouse, source_table, run, at, what, "table", "column", words, ignored)
           values (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)""",
        [(feed, warehouse, source_table, run, now_text(), c.what, c.table, c.column, c.words, c.ignored) for c in changes],
    )


def read_drift(store: Store, feed: str, *, limit: int = 200) -> list[wire.Drift]:
    """The latest first."""
    rows = store.connection.execute(
        """select id, feed, warehouse, source_table, run, at, what, "table", "column", words, ignored from drift
           where feed = ? order by id desc limit ?""",
        (feed, limit),
    )
    return [typed(wire.Drift, r, ignored=bool(r["ignored"])) for r in rows]


def drift_of_run(store: Store, run: int) -> list[dict[str, Any]]:
    """[{words}] of a run."""
    rows = store.connection.execute("select words from drift where run = ? order by id limit 100", (run,))
    return [dict(r) for r in rows]


def save_rejects(
    connection: sqlite3.Connection, feed: str, warehouse: str, run: int, table: str, rejects: Sequence[Reject]
) -> None:
    """Write rejects, within the caller's transaction. A record that was rejected before is counted, not stored again."""
    kept = [(r, exact_digest(r.record), dump_lenient(r.record)) for r in rejects]
    connection.executemany(
        """insert into reject (feed, warehouse, source_table, digest, run, at, code, message, field, record, file)
           values (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
           on conflict (feed, warehouse, source_table, digest) do update set file = excluded.file,
               run = iif(excluded.run = replayed_by, run, excluded.run), replayed_by = null, at = excluded.at,
               code = excluded.code, message = excluded.message, field = excluded.field, times = times + (run <> excluded.run)""",
        [
            (feed, warehouse, table, mark, run, now_text(), r.code, r.message, r.field, record, r.file)
            for r, mark, record in kept
        ],
    )


def read_rejects(store: Store, feed: str, *, before: int | None = None, limit: int = 200) -> list[wire.Reject]:
    """The latest first, with id < before."""
    rows = store.connection.execute(
        """select id, feed, warehouse, source_table, run, at, code, message, field, record, times from reject
           where feed = ? and (? is null or id < ?) order by id desc limit ?""",
        (feed, before, before, limit),
    )
    return [typed(wire.Reject, r) for r in rows]


@dataclass(frozen=True)
class RejectsToReplay:
    """The rejects of one warehouse and table, the oldest first.

    Attributes:
        runs: see core.runs.execution.replay.
        files: see core.runs.execution.replay.
        ids: of the rejects.
    """

    records: list[dict[str, Any]] = field(default_factory=list)
    runs: list[int] = field(default_factory=list)
    files: list[int] = field(default_factory=list)
    ids: list[int] = field(default_factory=list)


def rejects_to_replay(store: Store, feed: str, first: str, run: int) -> dict[tuple[str, str], RejectsToReplay]:
    """The rejects that a run replays. Those that an earlier replay loaded before it was killed are dropped first: a replay is one load,
    and what it rejects again is no longer `replayed_by` it before that load is committed.

    Args:
        first: the feed's first warehouse.
        run: the replaying run.

    Returns:
        {(warehouse, table): rejects}, without those that were not records: their source has to be read again.
    """
    found: dict[tuple[str, str], RejectsToReplay] = {}
    with store.transaction() as connection:
        connection.execute(
            """delete from reject where feed = ? and replayed_by is not null and exists (
                   select 1 from ledger as l where l.run = replayed_by and l.feed = reject.feed
                   and l.source_table = reject.source_table and l.warehouse = coalesce(nullif(reject.warehouse, ''), ?))""",
            (feed, first),
        )
        rows = connection.execute(
            """update reject set replayed_by = ? where feed = ? and code not like 'record.%'
               returning id, warehouse, source_table, run, record, file""",
            (run, feed),
        ).fetchall()
    for row in sorted(rows, key=lambda row: row["id"]):
        held = found.setdefault((row["warehouse"] or first, row["source_table"]), RejectsToReplay())
        # As a source's body is read: whole numbers and decimals of any size stay exact.
        held.records.append(json.loads(row["record"], parse_float=_exact_number))
        held.runs.append(row["run"])
        held.files.append(row["file"] or 0)
        held.ids.append(row["id"])
    return found


def _exact_number(text: str) -> float | Decimal:
    number = float(text)
    return number if repr(number) == text or Decimal(repr(number)) == Decimal(text) else Decimal(text)


def drop_replayed_rejects(store: Store, ids: Sequence[int], run: int) -> None:
    """Drop rejects that a replay has loaded. Those rejected again stay, with the run that read them from the source."""
    with store.transaction() as connection:
        connection.executemany("delete from reject where id = ? and replayed_by = ?", [(i, run) for i in ids])


def drop_unseen_rejects(connection: sqlite3.Connection, feed: str, warehouse: str, run: int, table: str) -> int:
    """After a run that saw every record: drop rejects of earlier runs that it did not reject again. Returns their number."""
    return connection.execute(
        "delete from reject where feed = ? and warehouse = ? and source_table = ? and run < ?", (feed, warehouse, table, run)
    ).rowcount


def rejected_until(
    connection: sqlite3.Connection, feed: str, warehouse: str, run: int, table: str
) -> list[tuple[int, dict[str, Any]]]:
    """[(id, record)] of this run and earlier ones."""
    rows = connection.execute(
        "select id, record from reject where feed = ? and warehouse = ? and source_table = ? and run <= ?",
        (feed, warehouse, table, run),
    )
    return [(row["id"], json.loads(row["record"])) for row in rows]


def forget(connection: sqlite3.Connection, ids: Sequence[int]) -> None:
    """Drop rejects."""
    connection.executemany("delete from reject where id = ?", [(one,) for one in ids])
