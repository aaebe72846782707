"""Building beside: rows of a first load, or of a replace, go straight into the table they will be.

The table grows in the warehouse under a name of the loader's own, a short transaction per batch; the commit gives it its
name. Nothing is written twice, and readers see the old table whole, then the new one whole. A batch that repeats a key is
merged into what was built so far, the newest version winning.
"""

from __future__ import annotations

import re
import sqlite3
from collections.abc import Sequence

from ...shape.shaper import TableBatch
from ...shape.structure import TableShape
from . import ddl, write
from .ddl import quote
from .stage import Stage, columns_of, insert_rows
from .write import Counts, Stamp


class Beside:
    """The tables of one family being built. read: rows added, by table, whether they are still there or superseded."""

    def __init__(self, connection: sqlite3.Connection, feed: str, source_table: str) -> None:
        self._connection = connection
        # Points stand in no name of ours, so this prefix is nobody else's.
        self._prefix = f"_rb_beside.{feed}.{source_table}."
        self._tables: dict[str, str] = {}
        self.read: dict[str, int] = {}

    def add(self, batches: Sequence[TableBatch], *, key: list[str], newest_by: str | None, repeats: bool) -> None:
        """Within a transaction of the caller's. repeats: a key of the batch stands twice in it, or was added before."""
        if repeats:
            self._merge(batches, key, newest_by)
        for batch in batches:
            name = self.prepare(batch.table)
            if batch.rows and not repeats:
                insert_rows(self._connection, f"main.{quote(name)}", *columns_of(batch), batch.rows)
            self.read[batch.table.name] += batch.rows

    def prepare(self, shape: TableShape) -> str:
        """The table being built for a shape; made, or brought up to it, where needed."""
        name = self._tables.get(shape.name)
        if name is None:
            if not self._tables:
                self._clear_leftovers()
            name = self._tables[shape.name] = f"{self._prefix}{len(self._tables)}"
            self.read[shape.name] = 0
            ddl.create_table(self._connection, name, shape, row_column=False, stamps=False)
        else:
            ddl.bring_up(self._connection, name, shape, row_column=False)
        return name

    def take_place(self, shape: TableShape, stamp: Stamp, *, ours: bool, key: list[str]) -> Counts:
        """Within the load's transaction: stamp the rows and give the table its name. Raises TableNotOurs."""
        name = self.prepare(shape)
        held = self._connection.execute(f"select count(*) from main.{quote(name)}").fetchone()[0]
        self._connection.execute(f"drop index if exists main.{quote(name + '_key')}")
        # A new column's constant default stands for all rows there are, without touching one of them.
        if "_rb_load" not in (ddl.existing_columns(self._connection, name) or {}):
            self._connection.execute(f"alter table main.{quote(name)} add column _rb_load INTEGER default {stamp.load:d}")
            self._connection.execute(f"alter table main.{quote(name)} add column _rb_at TIMESTAMP TEXT default '{stamp.at}'")
        there = ddl.existing_columns(self._connection, shape.name)
        removed = 0
        if there is None:
            ddl.rename_table(self._connection, name, shape.name)
        else:
            ddl.require_ours(shape, there, ours=ours)
            removed = self._connection.execute(f"select count(*) from main.{quote(shape.name)}").fetchone()[0]
            ddl.replace_table(self._connection, shape.name, name)
        if key:
            ddl.ensure_key(self._connection, shape.name, key)
        return Counts(inserted=held, superseded=self.read[shape.name] - held, removed=removed)

    def drop(self) -> None:
        """What was built and took no place."""
        for name in self._tables.values():
            self._connection.execute(f"drop table if exists main.{quote(name)}")
        self._tables.clear()
        self.read.clear()

    def placed(self) -> None:
        """The tables have their names: there is nothing to drop any more."""
        self._tables.clear()
        self.read.clear()

    def _merge(self, batches: Sequence[TableBatch], key: list[str], newest_by: str | None) -> None:
        root, stage = batches[0].table, Stage(self._connection)
        for table in root.family():
            self.prepare(table)
        for batch in batches:
            stage.add(batch)
        write.drop_superseded(self._connection, stage, root, key, newest_by)
        built = self._tables.__getitem__
        ddl.ensure_key(self._connection, built(root.name), key)
        if newest_by:
            write.drop_outdated(self._connection, stage, root, built, key, newest_by)
        write.note_parents(self._connection, stage, root, built, key)
        write.merge(self._connection, stage, root, built(root.name), key, None)
        for number, _ in enumerate(list(root.family())[1:]):
            write.merge_children(self._connection, stage, root, number, built, None)
        stage.drop()

    def _clear_leftovers(self) -> None:
        """What a killed run was building."""
        own = re.compile(re.escape(self._prefix) + r"\d+")
        found = self._connection.execute("select name from main.sqlite_master where type = 'table' and name glob '_rb_*'")
        for (name,) in found.fetchall():
            if own.fullmatch(name):
                self._connection.execute(f"drop table main.{quote(name)}")
