"""One load into SQLite: everything in one transaction, or nothing."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from ...errors import CursorMoved, TableNotOurs
from ...shape.shaper import TableBatch
from ...shape.structure import ColumnShape, TableShape
from ..ledger import LedgerLine
from ..warehouse import LoadTarget, Position, TableState
from . import write
from .connect import translated
from .ddl import SERVICE_TABLES, ensure_key, ensure_table
from .stage import Stage, bindable
from .write import Counts, Stamp

# Keys held to see whether one repeats; a quarter of a million take about 30 MB.
_MOST_KEYS_HELD = 250_000
_LEDGER_COLUMNS = list(LedgerLine.__dataclass_fields__)


class SqliteLoad:
    """See load.warehouse.Load. Holds the file's write lock only while it commits."""

    def __init__(self, connection: sqlite3.Connection, path: Path, target: LoadTarget, state: TableState | None) -> None:
        self._connection = connection
        self._path = path
        self._target = target
        self._version = state.version if state else 0
        self._stage = Stage(connection)
        self._keys: set[Any] | None = set()
        self.staged_rows = 0

    def stage(self, batches: Sequence[TableBatch]) -> None:
        with translated("staging rows for", self._path):
            self._connection.execute("begin")
            try:
                for batch in batches:
                    self._stage.add(batch)
            except BaseException:
                self._connection.execute("rollback")
                raise
            self._connection.execute("commit")
        if batches:
            self.staged_rows += batches[0].rows
            self._note_keys(batches[0])

    def commit(self, structure: TableShape, position: Position, now: datetime) -> list[LedgerLine]:
        with translated(f"committing {self._target.table} to", self._path):
            self._connection.execute("begin immediate")
            try:
                lines = self._write(structure, position, now)
                self._save(structure, position, lines[0].load, now)
                self._connection.execute("commit")
            except BaseException:
                # A failing rollback must not hide what went wrong; closing the connection rolls back as well.
                if self._connection.in_transaction:
                    self._connection.execute("rollback")
                raise
            self._version += 1
            self.staged_rows = 0
            self._keys = set()
            self._stage.clear()
            return lines

    def close(self) -> None:
        with translated("dropping the stage of", self._path):
            self._stage.drop()

    def _write(self, structure: TableShape, position: Position, now: datetime) -> list[LedgerLine]:
        connection, target, stage = self._connection, self._target, self._stage
        for statement in SERVICE_TABLES:
            connection.execute(statement)
        self._guard()
        family = list(structure.family())
        for table in family:
            stage.prepare(table)
        staged = {table.name: stage.rows[table.name] for table in family}
        by_row = target.link == "row"
        key = [] if by_row else key_columns(structure, target.key)
        new = {}
        for table in family:
            own_key = key if table is structure else ["_rb_parent", "_rb_pos"]
            new[table.name] = ensure_table(
                connection,
                table,
                ours=self._version > 0,
                key=[] if by_row else own_key,
                link_by_row=by_row,
                has_children=len(family) > 1,
            )
        superseded: dict[str, int] = {}
        if key and self._keys_may_repeat():
            superseded = write.drop_superseded(connection, stage, structure, key, self._newest_by(structure))
        first = connection.execute("select coalesce(max(load), 0) + 1 from main._rb_ledger").fetchone()[0]
        at = timestamp_text(now)
        merging = target.write == "merge" and not new[structure.name]
        if merging:
            write.note_parents(connection, stage, structure, key)
        lines = []
        for number, table in enumerate(family):
            stamp = Stamp(first + number, at)
            removed = 0
            if target.write == "replace" and not new[table.name]:
                removed = write.empty(connection, table)
            if merging and table is structure:
                counts = write.merge(connection, stage, table, key, stamp)
            elif merging:
                counts = write.merge_children(connection, stage, structure, number - 1, stamp)
            else:
                counts = write.insert_all(connection, stage, table, stamp, rows_linked=by_row, root_load=first)
                if key:
                    ensure_key(connection, table.name, key if table is structure else ["_rb_parent", "_rb_pos"])
            counts.removed += removed
            counts.superseded = superseded.get(table.name, 0)
            if table is structure or staged[table.name] or counts.removed:
                lines.append(self._line(stamp.load, table, counts, staged[table.name], position, now, table is structure))
        for line in lines:
            line.require_reconciled()
            connection.execute(
                f"""insert into main._rb_ledger ({", ".join('"' + c + '"' for c in _LEDGER_COLUMNS)})
                    values ({", ".join("?" * len(_LEDGER_COLUMNS))})""",
                [getattr(line, c) for c in _LEDGER_COLUMNS],
            )
        return lines

    def _note_keys(self, batch: TableBatch) -> None:
        """Remember the staged keys while they are few: finding out in SQL whether one comes twice costs an index."""
        key = key_columns(batch.table, self._target.key)
        if self._keys is None or not key:
            return
        if self.staged_rows > _MOST_KEYS_HELD:
            self._keys = None
            return
        columns = [bindable(*batch.columns[name]) for name in key]
        self._keys.update(columns[0] if len(columns) == 1 else zip(*columns))

    def _keys_may_repeat(self) -> bool:
        return self._keys is None or len(self._keys) < self.staged_rows

    def _guard(self) -> None:
        """The state this load started from must still stand, and the table must be nobody else's."""
        target = self._target
        found = self._connection.execute(
            "select version from main._rb_cursor where feed = ? and source_table = ?",
            (target.feed, target.source_table),
        ).fetchone()
        version = found[0] if found else 0
        if version != self._version:
            raise CursorMoved(
                "committing",
                target.table,
                found=f"another run committed meanwhile (version {version}, this run started from {self._version})",
                mend="nothing of this load was committed; run again, it starts from the other run's cursor",
            )
        other = self._connection.execute(
            """select feed, source_table from main._rb_cursor
               where "table" = ? and not (feed = ? and source_table = ?)""",
            (target.table, target.feed, target.source_table),
        ).fetchone()
        if other:
            raise TableNotOurs(
                "loading",
                target.table,
                found=f"the feed {other[0]} writes its table {other[1]} there",
                mend="give one of the two feeds a `prefix`",
            )

    def _newest_by(self, structure: TableShape) -> str | None:
        node = structure.root.fields.get(self._target.newest_by or "")
        return node.name if isinstance(node, ColumnShape) else None

    def _line(
        self,
        load: int,
        table: TableShape,
        counts: Counts,
        staged: int,
        position: Position,
        now: datetime,
        is_root: bool,
    ) -> LedgerLine:
        target = self._target
        rejected = position.rejected if is_root else 0
        return LedgerLine(
            load=load,
            run=target.run,
            feed=target.feed,
            source=target.source,
            source_table=target.source_table,
            table=table.name,
            write=target.write,
            read=staged + rejected,
            staged=staged,
            inserted=counts.inserted,
            updated=counts.updated,
            deleted=0,
            unchanged=counts.unchanged,
            superseded=counts.superseded,
            rejected=rejected,
            removed=counts.removed,
            repeated=position.repeated if is_root else 0,
            cursor_from=position.cursor_from,
            cursor_to=position.cursor.value if position.cursor else None,
            source_bytes=position.source_bytes if is_root else 0,
            started=rfc3339(position.started),
            ended=rfc3339(now),
        )

    def _save(self, structure: TableShape, position: Position, load: int, now: datetime) -> None:
        target, cursor = self._target, position.cursor
        self._connection.execute(
            """insert into main._rb_cursor
                   (feed, source_table, "table", version, kind, value, seen, link, key, structure, load, at)
               values (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
               on conflict (feed, source_table) do update set
                   "table" = excluded."table", version = excluded.version, structure = excluded.structure,
                   link = excluded.link, key = excluded.key, load = excluded.load, at = excluded.at,
                   kind = coalesce(excluded.kind, kind), value = coalesce(excluded.value, value),
                   seen = iif(excluded.value is null, seen, excluded.seen)""",
            (
                target.feed,
                target.source_table,
                target.table,
                self._version + 1,
                cursor.kind if cursor else None,
                cursor.value if cursor else None,
                cursor.seen if cursor else None,
                target.link,
                json.dumps(target.key),
                json.dumps(structure.to_data(), ensure_ascii=False),
                load,
                rfc3339(now),
            ),
        )


def key_columns(structure: TableShape, key: Sequence[str]) -> list[str]:
    """The key's source fields as columns. Empty while nothing at all was loaded, so no column is known."""
    nodes = [structure.root.fields.get(name) for name in key]
    return [node.name for node in nodes if isinstance(node, ColumnShape)]


def timestamp_text(now: datetime) -> str:
    """As timestamps are stored in SQLite: '2026-03-02 06:00:00.000000Z'."""
    return now.astimezone(UTC).strftime("%Y-%m-%d %H:%M:%S.%fZ")


def rfc3339(now: datetime) -> str:
    return now.astimezone(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")
