"""One load into SQLite: everything in one transaction, or nothing."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Sequence
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path

from ...errors import CursorMoved, TableNotOurs, WarehouseError
from ...shape.shaper import TableBatch
from ...shape.structure import ColumnShape, TableShape
from ..ledger import LedgerLine
from ..warehouse import LoadTarget, Position, TableState
from . import write
from .beside import Beside
from .connect import translated
from .ddl import SERVICE_TABLES, bring_up, create_table, existing_columns, quote, require_ours
from .stage import Stage, bindable
from .write import Counts, Stamp

# Hashes of keys held to see whether one repeats; half a million take about 40 MB.
_MOST_KEYS_HELD = 500_000
_LEDGER_COLUMNS = list(LedgerLine.__dataclass_fields__)


class SqliteLoad:
    """See load.warehouse.Load. Holds the file's write lock while it commits, and for each batch that is built beside."""

    def __init__(self, connection: sqlite3.Connection, path: Path, target: LoadTarget, state: TableState | None) -> None:
        self._connection = connection
        self._path = path
        self._target = target
        self._version = state.version if state else 0
        self._stage = Stage(connection)
        self._keys: set[int] | None = set()
        self._repeated = False
        builds = target.link == "key" and (state is None or target.write == "replace")
        self._beside = Beside(connection, target.feed, target.source_table) if builds else None
        self.staged_rows = 0

    def stage(self, batches: Sequence[TableBatch]) -> None:
        if not batches:
            return
        repeats = self._note_keys(batches[0])
        with translated("staging rows for", self._path):
            self._connection.execute("begin immediate" if self._beside else "begin")
            try:
                if self._beside:
                    root = batches[0].table
                    key, newest_by = key_columns(root, self._target.key), self._newest_by(root)
                    self._beside.add(batches, key=key, newest_by=newest_by, repeats=repeats)
                else:
                    for batch in batches:
                        self._stage.add(batch)
            except BaseException:
                self._connection.execute("rollback")
                raise
            self._connection.execute("commit")
        self.staged_rows += batches[0].rows

    def commit(self, structure: TableShape, position: Position, now: datetime) -> list[LedgerLine]:
        with translated(f"committing {self._target.table} to", self._path):
            self._connection.execute("begin immediate")
            try:
                for statement in SERVICE_TABLES:
                    self._connection.execute(statement)
                self._guard()
                first = self._connection.execute("select coalesce(max(load), 0) + 1 from main._rb_ledger").fetchone()[0]
                stamps = [Stamp(first + n, timestamp_text(now)) for n, _ in enumerate(structure.family())]
                if self._beside:
                    lines = self._take_place(self._beside, structure, stamps, position, now)
                else:
                    lines = self._write(structure, stamps, position, now)
                self._keep_ledger(lines)
                self._save(structure, position, first, now)
                self._connection.execute("commit")
            except BaseException:
                # A failing rollback must not hide what went wrong; closing the connection rolls back as well.
                if self._connection.in_transaction:
                    self._connection.execute("rollback")
                raise
            self._version += 1
            self.staged_rows = 0
            self._keys = set()
            self._repeated = False
            self._stage.clear()
            if self._beside:
                self._beside.placed()
                if self._target.write != "replace":
                    self._beside = None
            return lines

    def close(self) -> None:
        # A failing clean-up must not hide why the load ended. Temp tables go with the connection, and what was being
        # built beside is cleared by the next run.
        with suppress(WarehouseError), translated("dropping the stage of", self._path):
            self._stage.drop()
            if self._beside:
                self._beside.drop()

    def _take_place(
        self, beside: Beside, structure: TableShape, stamps: list[Stamp], position: Position, now: datetime
    ) -> list[LedgerLine]:
        key = key_columns(structure, self._target.key)
        lines = []
        for table, stamp in zip(structure.family(), stamps):
            beside.prepare(table)
            read = beside.read[table.name]
            own_key = key if table is structure else ["_rb_parent", "_rb_pos"]
            counts = beside.take_place(table, stamp, ours=self._version > 0, key=own_key)
            if table is structure or read or counts.removed:
                lines.append(self._line(stamp.load, table, counts, read, position, now, table is structure))
        return lines

    def _write(self, structure: TableShape, stamps: list[Stamp], position: Position, now: datetime) -> list[LedgerLine]:
        """From the stage: append, merge into what is there, or replace a table without a key."""
        connection, target, stage = self._connection, self._target, self._stage
        family = list(structure.family())
        staged = {table.name: stage.count(table) for table in family}
        by_row = target.link == "row"
        key = [] if by_row else key_columns(structure, target.key)
        for table in family:
            self._ensure(table, row_column=by_row and len(family) > 1 and table is structure)
        superseded: dict[str, int] = {}
        if key and self._repeated:
            superseded = write.drop_superseded(connection, stage, structure, key, self._newest_by(structure))
        if key:
            write.note_parents(connection, stage, structure, str, key)
        lines = []
        for number, (table, stamp) in enumerate(zip(family, stamps)):
            if not key:
                # A keyed replace is built beside; without a key the old rows make room here, in the same transaction.
                removed = 0
                if target.write == "replace":
                    removed = connection.execute(f"delete from main.{quote(table.name)}").rowcount
                counts = write.insert_all(connection, stage, table, stamp, rows_linked=by_row, root_load=stamps[0].load)
                counts.removed = removed
            elif table is structure:
                counts = write.merge(connection, stage, table, table.name, key, stamp)
            else:
                counts = write.merge_children(connection, stage, structure, number - 1, str, stamp)
            counts.superseded = superseded.get(table.name, 0)
            if table is structure or staged[table.name] or counts.removed:
                lines.append(self._line(stamp.load, table, counts, staged[table.name], position, now, table is structure))
        return lines

    def _ensure(self, table: TableShape, *, row_column: bool) -> None:
        """The table is there, ours, and has the structure's columns."""
        there = existing_columns(self._connection, table.name)
        if there is None:
            create_table(self._connection, table.name, table, row_column=row_column, stamps=True)
        else:
            require_ours(table, there, ours=self._version > 0)
            bring_up(self._connection, table.name, table, row_column=row_column)

    def _keep_ledger(self, lines: list[LedgerLine]) -> None:
        for line in lines:
            line.require_reconciled()
            self._connection.execute(
                f"""insert into main._rb_ledger ({", ".join('"' + c + '"' for c in _LEDGER_COLUMNS)})
                    values ({", ".join("?" * len(_LEDGER_COLUMNS))})""",
                [getattr(line, c) for c in _LEDGER_COLUMNS],
            )

    def _note_keys(self, batch: TableBatch) -> bool:
        """Whether a key of the batch came before in this load, or comes twice in it, as far as memory reaches.

        Finding out in SQL would cost an index. Hashes are kept, not keys: two that collide only cost the slower way.
        """
        key = key_columns(batch.table, self._target.key)
        if not key or self._target.link == "row" or not batch.rows:
            return False
        if self._keys is not None and len(self._keys) > _MOST_KEYS_HELD:
            self._keys = None
        if self._keys is None:
            self._repeated = True
            return True
        columns = [bindable(*batch.columns[name]) for name in key]
        before = len(self._keys)
        self._keys.update(map(hash, columns[0] if len(columns) == 1 else zip(*columns)))
        repeats = len(self._keys) < before + batch.rows
        self._repeated = self._repeated or repeats
        return repeats

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
