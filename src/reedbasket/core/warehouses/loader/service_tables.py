"""`_rb_ledger` and `_rb_cursor`: what a warehouse knows about its loads, written in the transaction of their rows."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from ...errors import CursorMoved, TableNotOwned
from ...records.ledger import LedgerLine
from ...records.position import SavedCursor
from ...records.structure import TableShape
from ..engine import FILE, Engine, rfc3339
from ..loading import LoadedWindow, LoadTarget, Position
from ..warehouse import TableState

LEDGER_COLUMNS = list(LedgerLine.__dataclass_fields__)
_TEXTS = ("feed", "source", "source_table", "table", "write", "cursor_from", "cursor_to", "started", "ended")
_SECONDS = ("reading_seconds", "shaping_seconds", "staging_seconds", "committing_seconds")


def _type(column: str) -> str:
    if column in _TEXTS:
        return "text" if column.startswith("cursor") else "text not null"
    return "double precision not null default 0" if column in _SECONDS else "bigint not null default 0"


_LEDGER = {column: _type(column) for column in LEDGER_COLUMNS}
# Of `_rb_cursor`, what older versions did not make.
_LATER = {"write": "text", "cursor_column": "text"}


@dataclass(frozen=True)
class PresentTables:
    """The service tables that exist, of those that a commit writes to.

    Attributes:
        columns: {table: {column: declared type}}; None for a table that does not exist.
    """

    columns: Mapping[str, dict[str, str] | None] = field(default_factory=dict)


def present(engine: Engine, position: Position) -> PresentTables:
    """The existing service tables, of those that this position needs."""
    wanted = ["_rb_ledger", "_rb_cursor"]
    wanted += [FILE] if position.files else []
    wanted += ["_rb_hash"] if position.hashes is not None else []
    wanted += ["_rb_window"] if position.window is not None else []
    return PresentTables({table: engine.columns(table) for table in wanted})


def ensure(engine: Engine, there: PresentTables) -> None:
    """Create the tables that are missing, and add missing columns."""
    for table, columns in there.columns.items():
        if columns is None:
            engine.make_table(engine.table(table), _columns(engine, table))
            if table == FILE:
                engine.index_files(engine.table(FILE))
    # Made by an older version; what it counted then was nothing.
    for table, known in (("_rb_ledger", _LEDGER), ("_rb_cursor", _LATER)):
        held = there.columns[table]
        for column, declared in known.items():
            if held is not None and column not in held:
                engine.run(f'alter table {engine.table(table)} add column "{column}" {declared.replace(" not null", "")}')


def _columns(engine: Engine, table: str) -> str:
    """Of a service table, as `create table` has them."""
    if table == "_rb_ledger":
        return ", ".join(f'"{c}" {"bigint primary key" if c == "load" else type_}' for c, type_ in _LEDGER.items())
    text, key_text = engine.types["text"], engine.key_text
    return {
        "_rb_cursor": f"""
            feed {key_text} not null, source_table {key_text} not null, "table" {key_text} not null, version bigint not null,
            kind {text}, value {text}, seen {engine.blob}, link {text} not null, "key" {text} not null,
            structure {text} not null, "load" bigint, "at" {text} not null, "write" {text}, cursor_column {text},
            primary key (feed, source_table)""",
        "_rb_window": f"""
            feed {key_text} not null, source_table {key_text} not null, backfill bigint not null, begins {key_text} not null,
            ends {key_text} not null, "load" bigint not null, "at" {text} not null,
            primary key (feed, source_table, backfill, begins, ends)""",
        "_rb_hash": f"""
            feed {key_text} not null, source_table {key_text} not null, version bigint not null,
            part bigint not null, hashes {engine.blob} not null""",
        FILE: f"""
            feed {key_text} not null, source_table {key_text} not null, number bigint not null, path {text} not null,
            size bigint not null, modified {text} not null, tag {text} not null, state {text} not null, "rows" bigint not null,
            rejected bigint not null, "load" bigint, "at" {text} not null, problem {text} not null""",
    }[table]


def guard(engine: Engine, there: PresentTables, target: LoadTarget, started_from: int) -> None:
    """The state this load started from must still stand, and the table must be nobody else's.

    Raises:
        CursorMoved: another run committed meanwhile.
        TableNotOwned: another feed writes there.
    """
    cursor, version, other = engine.table("_rb_cursor"), 0, []
    if there.columns["_rb_cursor"] is not None:
        names = (target.feed, target.source_table)
        found = engine.query(f"select version from {cursor} where feed = ? and source_table = ?", names)
        version = found[0][0] if found else 0
        other = engine.query(
            f'select feed, source_table from {cursor} where "table" = ? and not (feed = ? and source_table = ?)',
            (target.table, *names),
        )
    if version != started_from:
        raise CursorMoved(
            "committing",
            target.table,
            found=f"another run committed in the meantime (version {version}, this run started from {started_from})",
            fix="nothing of this load was committed; run again, it starts from the other run's cursor",
        )
    if other:
        raise TableNotOwned(
            "loading",
            target.table,
            found=f"the feed {other[0][0]} writes its table {other[0][1]} there",
            fix="give one of the two feeds a `table_prefix`",
        )


def keep_ledger(engine: Engine, lines: Sequence[LedgerLine]) -> None:
    """Write the lines of a load.

    Raises:
        NotReconciled: the counts do not add up; nothing is written.
    """
    for line in lines:
        line.require_reconciled()
    names = ", ".join(f'"{c}"' for c in LEDGER_COLUMNS)
    marks = ", ".join("?" * len(LEDGER_COLUMNS))
    for line in lines:
        engine.execute(
            f"insert into {engine.table('_rb_ledger')} ({names}) values ({marks})", [getattr(line, c) for c in LEDGER_COLUMNS]
        )


def save(
    engine: Engine, target: LoadTarget, structure: dict[str, Any], position: Position, version: int, load: int, now: datetime
) -> None:
    """Save how far the table has been read. A load without a cursor leaves the saved cursor as it is."""
    table, cursor = engine.table("_rb_cursor"), position.cursor
    found = engine.query(
        f"select kind, value, seen, cursor_column from {table} where feed = ? and source_table = ?",
        (target.feed, target.source_table),
    )
    kept: tuple[Any, ...] = (None, None, None, None)
    if cursor:
        kept = (cursor.kind, cursor.value, cursor.seen, cursor.column)
    elif found and not position.forget_cursor:
        kept = found[0]
    values = (
        target.table,
        version,
        *kept,
        target.link,
        json.dumps(target.key),
        json.dumps(structure, ensure_ascii=False),
        load,
        rfc3339(now),
        target.write,
        target.feed,
        target.source_table,
    )
    if found:
        engine.execute(
            f"""update {table} set "table" = ?, version = ?, kind = ?, value = ?, seen = ?, cursor_column = ?, link = ?,
                    "key" = ?, structure = ?, "load" = ?, "at" = ?, "write" = ? where feed = ? and source_table = ?""",
            values,
        )
    else:
        engine.execute(
            f"""insert into {table} ("table", version, kind, value, seen, cursor_column, link, "key", structure, "load", "at", "write",
                    feed, source_table) values ({", ".join("?" * len(values))})""",
            values,
        )


def save_write_mode(engine: Engine, target: LoadTarget, *, forget_cursor: bool) -> None:
    """Save that rows were migrated to another write mode, before anything is loaded in it."""
    forgotten = ", kind = null, value = null, seen = null, cursor_column = null" if forget_cursor else ""
    engine.execute(
        f"""update {engine.table("_rb_cursor")} set "write" = ?, link = ?, "key" = ?{forgotten}
            where feed = ? and source_table = ?""",
        (target.write, target.link, json.dumps(target.key), target.feed, target.source_table),
    )


def save_window(engine: Engine, target: LoadTarget, window: LoadedWindow, load: int, now: datetime) -> None:
    """Save that a window is loaded."""
    engine.execute(
        f"""insert into {engine.table("_rb_window")} (feed, source_table, backfill, begins, ends, "load", "at")
            values (?, ?, ?, ?, ?, ?, ?)""",
        (target.feed, target.source_table, window.backfill, window.begins, window.ends, load, rfc3339(now)),
    )


Ask = Callable[[str, Sequence[Any]], list[tuple[Any, ...]]]

# SQLite, the narrowest of our engines here, takes 1 GB in one value; a few MB keep memory flat.
_BYTES_PER_PART = 4 * 1024 * 1024


def save_hashes(engine: Engine, target: LoadTarget, hashes: bytes, version: int) -> None:
    """Save what `compare` keeps; it is valid only together with the state of that version."""
    table = engine.table("_rb_hash")
    engine.execute(f"delete from {table} where feed = ? and source_table = ?", (target.feed, target.source_table))
    for part, start in enumerate(range(0, len(hashes), _BYTES_PER_PART)):
        engine.execute(
            f"insert into {table} (feed, source_table, version, part, hashes) values (?, ?, ?, ?, ?)",
            (target.feed, target.source_table, version, part, hashes[start : start + _BYTES_PER_PART]),
        )


def read_hashes(query: Ask, table: str, feed: str, source_table: str, version: int) -> bytes | None:
    """What `compare` kept for a table at a version of its state; None if there is nothing."""
    rows = query(
        f"select hashes from {table} where feed = ? and source_table = ? and version = ? order by part",
        (feed, source_table, version),
    )
    return b"".join(bytes(row[0]) for row in rows) if rows else None


def read_window(query: Ask, table: str, feed: str, source_table: str, window: LoadedWindow) -> int | None:
    """The load that read a window; None if none has."""
    rows = query(
        f'select "load" from {table} where feed = ? and source_table = ? and backfill = ? and begins = ? and ends = ?',
        (feed, source_table, window.backfill, window.begins, window.ends),
    )
    return int(rows[0][0]) if rows else None


def read_state(query: Ask, table: str, columns: dict[str, str], feed: str, source_table: str) -> TableState | None:
    """The state of a table.

    Args:
        table: `_rb_cursor` as SQL.
        columns: those it has (an older version created fewer).
    """
    later = [f'"{c}"' if c in columns else "null" for c in ("write", "cursor_column")]
    rows = query(
        f"""select version, structure, kind, value, seen, link, "key", {", ".join(later)} from {table}
            where feed = ? and source_table = ?""",
        (feed, source_table),
    )
    if not rows:
        return None
    version, structure, kind, value, seen, link, key, write, column = rows[0]
    seen = bytes(seen) if seen is not None else None
    cursor = SavedCursor(kind, value, seen, column) if value is not None else None
    return TableState(version, TableShape.from_data(json.loads(structure)), cursor, link, json.loads(key), write)


def rewind(engine: Engine, feed: str, source_table: str, value: str | None) -> bool:
    """Move the saved cursor back to a value, or to the beginning (None). A load that is in progress will be refused.

    Returns:
        False if no cursor is saved.
    """
    table = engine.table("_rb_cursor")
    found = engine.query(f"select value from {table} where feed = ? and source_table = ?", (feed, source_table))
    if not found or found[0][0] is None:
        return False
    # What was seen within the overlap is of the old value: rows that come again are recognised by their keys.
    engine.execute(
        f"update {table} set value = ?, seen = null, version = version + 1 where feed = ? and source_table = ?",
        (value, feed, source_table),
    )
    return True


def read_ledger(query: Ask, table: str, columns: dict[str, str], feed: str | None, after: int, limit: int) -> list[LedgerLine]:
    """Lines of the ledger after a load, in order.

    Args:
        columns: those that the table has.
    """
    names = ", ".join(f'"{c}"' if c in columns else f'0 as "{c}"' for c in LEDGER_COLUMNS)
    only, values = ("and feed = ?", [feed]) if feed is not None else ("", [])
    rows = query(f'select {names} from {table} where "load" > ? {only} order by "load" limit ?', [after, *values, limit])
    return [LedgerLine(*row) for row in rows]
