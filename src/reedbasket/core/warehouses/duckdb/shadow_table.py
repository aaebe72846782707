"""Shadow tables for DuckDB: rows wait in Arrow files, because the warehouse's file is open only during a commit.

An uncompressed file is written and read at the speed of memory. The commit streams it into a new table and renames that.
"""

from __future__ import annotations

import os
import re
import shutil
import threading
import time
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pyarrow as pa
from typing_extensions import override

from ...memory import BRIEF, give_back
from ...records.layout import Family, TableLayout
from ...records.structure import ColumnShape
from ...shaping.batch import TableBatch
from ..engine import AT, LOAD
from ..loader.shadow_table import ShadowBuild
from ..loader.stage import OWNER, system_columns
from ..loader.write_modes import newest_first
from ..merge import Counts, Stamp
from .engine import DuckEngine

# Small batches joined; a file's batches are streamed one by one.
_ROWS_AT_ONCE = 50_000


@dataclass
class _Part:
    """One file: rows that arrived while the table had these columns."""

    path: Path
    columns: list[ColumnShape]
    names: list[str]


class DuckShadowBuild(ShadowBuild):
    """Rows wait in files next to the warehouse's."""

    def __init__(self, engine: DuckEngine, folder: Path, feed: str, source_table: str) -> None:
        super().__init__(engine)
        self._duck = engine
        self._folder = folder / f"{feed}.{source_table}.{os.getpid()}"
        self._parts: dict[str, list[_Part]] = {}
        self._waiting: dict[str, list[pa.Table]] = {}
        self._writers: dict[str, Any] = {}
        _clear_leftovers(folder, f"{feed}.{source_table}.")

    @override
    def add(self, family: Family, batches: Sequence[TableBatch], *, repeats: bool) -> None:
        for batch in batches:
            layout = family.tables[family.place(batch.table)]
            columns = [OWNER, *system_columns(family, layout), *layout.columns]
            self.read[layout.name] = self.read.get(layout.name, 0) + batch.rows
            if not batch.rows:
                continue
            table = self._duck.arrow(columns, batch)
            parts = self._parts.setdefault(layout.name, [])
            if not parts or not _alike(parts[-1], columns, table):
                self._close(layout.name)
                self._folder.mkdir(parents=True, exist_ok=True)
                kept = [ColumnShape(c.name, c.kind, c.whole, c.fraction) for c in columns if c.name in table.column_names]
                parts.append(_Part(self._folder / f"{layout.name}.{len(parts)}.arrow", kept, table.column_names))
            waiting = self._waiting.setdefault(layout.name, [])
            waiting.append(table)
            if sum(t.num_rows for t in waiting) >= _ROWS_AT_ONCE:
                self._write(layout.name)

    def _write(self, name: str) -> None:
        waiting = self._waiting.pop(name, [])
        if not waiting:
            return
        table = pa.concat_tables(waiting)
        writer = self._writers.get(name)
        if writer is None:
            writer = self._writers[name] = pa.ipc.new_stream(str(self._parts[name][-1].path), table.schema)
        writer.write_table(table)

    def _close(self, name: str) -> None:
        self._write(name)
        writer = self._writers.pop(name, None)
        if writer is not None:
            writer.close()

    @override
    def complete(self, family: Family, stamps: Sequence[Stamp], extra: Sequence[tuple[ColumnShape, str]]) -> list[Counts]:
        engine = self._engine
        for layout in family.tables:
            self._close(layout.name)
        # What reading held is needed no more; DuckDB is about to take as much.
        give_back()
        new = [f"_rb_new.{place}" for place in range(len(family.tables))]
        for layout, stamp, name in zip(family.tables, stamps, new):
            self._fill(family, layout, name, stamp, extra, owners=False)
        superseded = [0] * len(new)
        key, root = engine.listed(family.key), engine.table(new[0])
        if family.key and engine.query(f"select 1 from {root} group by {key} having count(*) > 1 limit 1"):
            superseded = self._drop_repeated(family, stamps, extra, new)
        self.names = {layout.name: name for layout, name in zip(family.tables, new)}
        return [
            Counts(inserted=self.read.get(layout.name, 0) - gone, superseded=gone)
            for layout, gone in zip(family.tables, superseded)
        ]

    def _fill(
        self,
        family: Family,
        layout: TableLayout,
        name: str,
        stamp: Stamp,
        extra: Sequence[tuple[ColumnShape, str]],
        *,
        owners: bool,
    ) -> None:
        engine, table = self._duck, self._duck.table(name)
        columns = [*([OWNER] if owners else []), *system_columns(family, layout), *layout.columns]
        stamped = [(LOAD, str(stamp.load)), (AT, stamp.at), *extra]
        engine.create(table, [*columns, *(c for c, _ in stamped)])
        constants = ", ".join(value for _, value in stamped)
        # Rows of a key each are told apart by it, whatever their order; without one the order in which they came is all there is.
        # Written in no order they take half the time.
        if family.key and not owners:
            engine.connection.execute("set preserve_insertion_order = false")
        for part in self._parts.get(layout.name, []):
            held = {c.name: c for c in part.columns}
            names = [c.name for c in columns if c.name in held]
            values = []
            for column in columns:
                if column.name in held:
                    before, quoted = held[column.name], engine.quote(column.name)
                    same = before.kind == column.kind and engine.declared(before) == engine.declared(column)
                    values.append(quoted if same else engine.widened(quoted, before.kind, column))
            with pa.OSFile(str(part.path), memory_pool=BRIEF) as source:  # mapped, its pages would count as ours
                engine.connection.register("rb_part", pa.ipc.open_stream(source))
                into = engine.listed([*names, *(c.name for c, _ in stamped)])
                engine.run(f"insert into {table} ({into}) select {', '.join([*values, constants])} from rb_part")
                engine.connection.unregister("rb_part")
        engine.connection.execute("set preserve_insertion_order = true")

    def _drop_repeated(
        self, family: Family, stamps: Sequence[Stamp], extra: Sequence[tuple[ColumnShape, str]], new: Sequence[str]
    ) -> list[int]:
        """Build once more without superseded versions of repeated keys and their children."""
        engine, key = self._engine, self._engine.listed(family.key)
        for layout, stamp, name in zip(family.tables, stamps, new):
            engine.run(f"drop table {engine.table(name)}")
            self._fill(family, layout, name, stamp, extra, owners=True)
        engine.run(
            f"""create temp table rb_superseded as select _rb_owner from (
                    select _rb_owner, row_number() over (
                        partition by {key} order by {newest_first(engine, family)}_rb_owner desc) as place
                    from {engine.table(new[0])}
                ) where place > 1"""
        )
        dropped = []
        for name in new:
            dropped.append(engine.delete_matching(engine.table(name), "rb_superseded", ["_rb_owner"]))
            engine.run(f"alter table {engine.table(name)} drop column _rb_owner")
        engine.run("drop table rb_superseded")
        return dropped

    @override
    def drop(self) -> None:
        for writer in self._writers.values():
            writer.close()
        self._writers.clear()
        self.placed()

    @override
    def placed(self) -> None:
        _remove(self._folder)
        self._parts.clear()
        self._waiting.clear()
        self.read = {}


def _alike(part: _Part, columns: Sequence[ColumnShape], table: pa.Table) -> bool:
    now = {c.name: c for c in columns}
    return part.names == table.column_names and all(
        (c.kind, c.whole, c.fraction) == (now[c.name].kind, now[c.name].whole, now[c.name].fraction) for c in part.columns
    )


def _remove(folder: Path) -> None:
    """Rename and then delete a folder in the background: deleting takes a hundredth of a load, and the next load needs the name."""
    gone = folder.with_name(f"{folder.name}.{time.monotonic_ns()}")
    with suppress(FileNotFoundError):
        folder.rename(gone)
        threading.Thread(target=shutil.rmtree, args=(gone, True), name="remove the stage").start()


def _clear_leftovers(folder: Path, prefix: str) -> None:
    """Files of runs of this table that were killed: their process is no more."""
    if not folder.is_dir():
        return
    own = re.compile(re.escape(prefix) + r"(\d+)(\.\d+)?")
    for left in folder.iterdir():
        match = own.fullmatch(left.name)
        if match and not Path(f"/proc/{match[1]}").exists():
            shutil.rmtree(left, ignore_errors=True)
