"""One load: stage, then everything in one transaction, or nothing. The same for all engines."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Mapping, Sequence
from contextlib import suppress
from dataclasses import replace
from datetime import datetime
from typing import Any

from typing_extensions import override

from ...errors import ConnectionLost, ReedError
from ...records.layout import Family, TableLayout
from ...records.ledger import LedgerLine
from ...records.structure import ColumnShape
from ...shaping.batch import TableBatch
from ...spec.model import KEYED
from ..engine import AT, DELETED_AT, LOAD, PARENT, POSITION, SINCE, UNTIL, Counts, Engine, Stamp, Stamping, rfc3339
from ..warehouse import Differences, Load, LoadTarget, Position, TableState
from . import service_tables
from . import write_modes as modes
from .comparison import differences
from .file_list import drop_replaced, save_files
from .fill_unchanged import fill_unchanged
from .ledger_lines import ledger_lines
from .removal_limit import require_few_removed, rows_held
from .requirements import require_committed, require_ours, require_room
from .shadow_table import ShadowBuild
from .stage import Stage, bring_up, system_columns
from .staged_deletes import ResolvedDeletes, joined, resolve_deletes
from .uniqueness import KeysMet
from .write_mode_migration import migrate_write_mode


class EngineLoad(Load):
    """See warehouses.warehouse.Load."""

    def __init__(
        self, engine: Engine, target: LoadTarget, state: TableState | None, beside: Callable[[], ShadowBuild] | None
    ) -> None:
        """beside: makes a new one, where the engine has such."""
        self._engine = engine
        self._target = target
        self._state = state
        self._version = state.version if state else 0
        self._known = {t.name for t in state.structure.family()} if state else set()
        self._stage = Stage(engine, waits=isinstance(engine, Stamping) and target.write == "append")
        self._keys = KeysMet()
        self._spared: list[TableBatch] = []
        self._gone: list[TableBatch] = []
        self._spares_all = False
        self._spared_files: set[int | None] = set()
        self._tombstones: list[TableBatch] = []
        self._kept: dict[str, list[TableBatch]] = {}
        self._rejected_in: list[int] = []
        self._emptied = False
        self._overtaken = 0
        # A tombstone is told from the rows of its key in the stage, and only there.
        builds = (
            (target.link == "key" or target.flat)
            and not target.tombstones
            and (state is None or (target.write == "replace" and not target.again))
        )
        self._new_beside = beside if builds else None
        self._beside = beside() if builds and beside else None
        self.staged_rows = 0
        self.notes: list[str] = []

    @property
    @override
    def version(self) -> int:
        return self._version

    @property
    def _history(self) -> bool:
        return self._target.write == "history"

    @property
    def _marks(self) -> bool:
        return self._target.deletes == "mark" and self._target.write in KEYED

    @override
    def stage(self, family: Family, batches: Sequence[TableBatch]) -> None:
        if not batches:
            return
        require_room(self._engine, family)
        repeats = self._note_keys(family, batches[0])
        with self._engine.translated(f"staging rows for {self._target.table} in"):
            if self._beside:
                self._beside.add(self._keyed(family), batches, repeats=repeats)
            else:
                for batch in batches:
                    self._stage.add(family, batch)
        self.staged_rows += batches[0].rows

    @override
    def rejected_in(self, runs: Sequence[int]) -> None:
        self._rejected_in = list(runs)

    @override
    def mark_present(self, keys: TableBatch) -> None:
        self._spared.append(keys)

    @override
    def mark_all_present(self, files: Iterable[int | None] | None = None) -> None:
        self._spares_all = self._spares_all or files is None
        self._spared_files.update(files or ())

    @override
    def gone(self, keys: TableBatch) -> None:
        self._gone.append(keys)

    @override
    def tombstones(self, keys: TableBatch) -> None:
        self._tombstones.append(keys)
        self.staged_rows += keys.rows

    @override
    def stage_unchanged(self, column: str, rows: TableBatch) -> None:
        self._kept.setdefault(column, []).append(rows)

    @override
    def emptied(self) -> None:
        self._overtaken += sum(self._stage.rows.values()) + sum(keys.rows for keys in self._tombstones)
        with self._engine.translated("clearing the stage of"):
            self._stage.clear()
        self._tombstones, self._kept, self._emptied = [], {}, True

    @override
    def differences(self, family: Family, *, deep: bool, samples: int) -> list[Differences]:
        engine = self._engine
        with engine.translated(f"comparing {self._target.table} in"):
            for layout in family.tables:
                self._stage.prepare(family, layout)
            engine.begin()
            try:
                if family.key:
                    modes.drop_superseded(engine, self._stage, family)
                rows_linked = self._target.link == "row"
                return differences(engine, self._stage, family, deep=deep, samples=samples, rows_linked=rows_linked)
            finally:
                engine.rollback()

    @override
    def commit(self, family: Family, structure: dict[str, Any], position: Position, now: datetime) -> list[LedgerLine]:
        engine, target = self._engine, self._target
        require_room(self._engine, family)
        self._keys.forget()  # all is staged: none is looked up any more, and they take room
        began = time.monotonic()
        with engine.translated(f"committing {target.table} to"):
            engine.begin()
            try:
                stamps, lines = self._write_all(family, structure, position, now, began)
            except BaseException:
                engine.rollback()
                raise
            try:
                engine.commit()
            except ConnectionLost as lost:
                require_committed(engine, target, stamps[0].load, lost)
                self._stage = Stage(engine)  # the temp tables went with the connection
            except BaseException:
                engine.rollback()
                raise
        self._begin_next(family)
        return lines

    def _write_all(
        self, family: Family, structure: dict[str, Any], position: Position, now: datetime, began: float
    ) -> tuple[list[Stamp], list[LedgerLine]]:
        """Within the transaction: rows, ledger, cursor, and all that is kept beside. began: when the commit did."""
        engine, target = self._engine, self._target
        engine.serialise(target.feed, target.source_table)
        service_tables.ensure(engine)
        service_tables.guard(engine, target, self._version)
        stamps = [Stamp(load, engine.time(now)) for load in engine.next_loads(len(family.tables))]
        replaced = [line.number for line in position.files if line.replaces]
        counts = self._place(family, stamps) if self._beside else self._write(family, stamps, replaced)
        seconds = time.monotonic() - began
        read = dict(self._beside.read if self._beside else self._stage.rows)
        read[family.root.name] = read.get(family.root.name, 0) + sum(keys.rows for keys in self._tombstones)
        read[family.root.name] += self._overtaken
        counts[0].superseded += self._overtaken
        lines = ledger_lines(target, family, read, stamps, counts, position, now, seconds)
        service_tables.keep_ledger(engine, lines)
        if position.files:
            save_files(engine, target.feed, target.source_table, position.files, stamps[0].load, rfc3339(now))
        if position.hashes is not None:
            service_tables.save_hashes(engine, target, position.hashes, self._version + 1)
        if position.window is not None:
            service_tables.save_window(engine, target, position.window, stamps[0].load, now)
        service_tables.save(engine, target, structure, position, self._version + 1, stamps[0].load, now)
        return stamps, lines

    def _begin_next(self, family: Family) -> None:
        """All is committed: what comes now is for the next commit."""
        self._state = None
        self._version += 1
        self._known |= {layout.name for layout in family.tables}
        self.staged_rows = 0
        self._keys = KeysMet()
        self._spared, self._gone, self._tombstones = [], [], []
        self._kept, self._emptied, self._overtaken = {}, False, 0
        try:
            with self._engine.translated("clearing the stage of"):
                self._stage.clear()
        except ConnectionLost:
            # The load is committed; what was staged went with the connection.
            self._engine.reconnect()
            self._stage = Stage(self._engine)
        if self._beside:
            self._beside.placed()
            again = self._target.write == "replace" and self._new_beside
            self._beside = self._new_beside() if again and self._new_beside else None

    @override
    def close(self) -> None:
        # A failing clean-up must not hide why the load ended; what was being built beside is cleared by the next run.
        self._engine.abandon()
        with suppress(ReedError), self._engine.translated("dropping the stage of"):
            if self._beside:
                self._beside.drop()
            self._stage.drop()

    def _keyed(self, family: Family) -> Family:
        """In append mode every record is a row of its own, so the key is ignored."""
        return replace(family, key=[]) if self._target.write == "append" else family

    # Within the transaction

    def _place(self, family: Family, stamps: list[Stamp]) -> list[Counts]:
        assert self._beside is not None
        family = self._keyed(family)
        for layout in family.tables:
            there = self._engine.columns(layout.name)
            if there is not None:
                self._require_ours(layout, there)
        root = family.root.name
        replaces = self._target.write == "replace" and self._engine.columns(root) is not None
        held = rows_held(self._engine, root) if replaces else 0
        extra = [(c, stamps[0].at if c is SINCE else "null") for c in self._mode_columns()]
        counts = self._beside.swap_in(family, stamps, extra)
        require_few_removed(root, held - counts[0].inserted, held, self._target.max_removed)
        for layout in family.tables:
            key = family.key if layout.parent is None else [PARENT, POSITION]
            if key:
                self._engine.ensure_key(layout.name, key, current=self._history)
        return counts

    def _write(self, family: Family, stamps: list[Stamp], replaced: Sequence[int] = ()) -> list[Counts]:
        """From the stage: append, merge into what is there, or replace a table without a key."""
        engine, target, stage = self._engine, self._target, self._stage
        for layout in family.tables:
            if not stage.waiting(family, layout):
                stage.prepare(family, layout)
            self._ensure(family, layout)
        if self._state is not None and target.write != "replace" and not target.again:
            self.notes += migrate_write_mode(engine, family, target, self._state, stamps[0])
        if target.write == "append" or not family.key or (target.write == "replace" and not target.again):
            return self._append(family, stamps, replaced)
        return self._merge(family, stamps, replaced)

    def _append(self, family: Family, stamps: list[Stamp], replaced: Sequence[int]) -> list[Counts]:
        engine, target, stage = self._engine, self._target, self._stage
        counts = []
        overtaken = modes.drop_overtaken(engine, stage, family, target, self._rejected_in) if target.again else {}
        gone_before = [0] * len(stamps)
        if replaced:
            held = rows_held(engine, family.root.name)
            gone_before = drop_replaced(engine, family, replaced)
            fewer = gone_before[0] - stage.rows.get(family.root.name, 0)
            require_few_removed(family.root.name, fewer, held, target.max_removed)
        for layout, stamp, removed in zip(family.tables, stamps, gone_before):
            if target.write == "replace" and not target.again:
                # A keyed replace is built in a shadow table; without a key the old rows make room here, in the same transaction.
                if layout.parent is None:
                    held = rows_held(engine, layout.name)
                    require_few_removed(layout.name, held - stage.rows.get(layout.name, 0), held, target.max_removed)
                removed = engine.run(f"delete from {engine.table(layout.name)}")
            done = modes.append(engine, stage, family, layout, stamp, stamps[0].load, rows_linked=target.link == "row")
            done.removed, done.superseded = removed, overtaken.get(layout.name, 0)
            counts.append(done)
        return counts

    def _merge(self, family: Family, stamps: list[Stamp], replaced: Sequence[int]) -> list[Counts]:
        engine, target, stage, root = self._engine, self._target, self._stage, family.root.name
        # Rows marked while the feed still said so are found again all the same.
        marks = "_rb_deleted_at" in (engine.columns(root) or {})
        held_now = "t._rb_until is null" if self._history else "true"
        present = "t._rb_deleted_at is null" if marks and not self._history else held_now
        if self._kept:
            fill_unchanged(engine, stage, family, self._kept, held_now)
        superseded = modes.drop_superseded(engine, stage, family) if self._keys.repeated else {}
        if target.again:
            _add(superseded, modes.drop_outdated(engine, stage, family, engine.table(root), held_now))
            _add(superseded, modes.drop_overtaken(engine, stage, family, target, self._rejected_in, held_now))
        gone, settled = self._gone_keys(family, marks, replaced), ResolvedDeletes()
        if gone and not self._emptied:
            leaving = engine.query(f"select count(*) from {gone}")[0][0]
            require_few_removed(root, leaving, rows_held(engine, root, present), target.max_removed)
        if self._tombstones and target.deletes == "ignore":
            settled.unchanged = sum(batch.rows for batch in self._tombstones)
        elif self._tombstones:
            settled = resolve_deletes(engine, stage, family, self._tombstones, present, outdated=target.again)
            _add(superseded, settled.dropped)
            gone = joined(engine, family, gone, settled.gone)
        writing = modes.KeyedWrite(engine, stage, family, stamps, self._history, target.deletes, marks, gone, superseded)
        counts = writing.write()
        if gone:
            engine.run(f"drop table {gone}")
        for layout, count in zip(family.tables, counts):
            count.superseded = superseded.get(layout.name, 0)
        counts[0].deleted += settled.deleted
        counts[0].removed -= settled.deleted
        counts[0].unchanged += settled.unchanged
        counts[0].superseded += settled.superseded
        return counts

    def _gone_keys(self, family: Family, marks: bool, replaced: Sequence[int] = ()) -> str | None:
        replaced = [number for number in replaced if number not in self._spared_files]
        if self._target.deletes == "ignore" or self._target.again or self._spares_all:
            return None
        if self._gone:
            return self._temp_keys("rb_gone", family, self._gone)
        complete = self._target.complete and self._target.write in ("mirror", "history")
        if not (complete or self._target.reads_all or self._emptied or replaced):
            return None
        spared = self._temp_keys("rb_spared", family, self._spared) if self._spared else None
        files = replaced if not (complete or self._target.reads_all or self._emptied) else ()
        gone = modes.find_gone(self._engine, self._stage, family, spared, history=self._history, marks=marks, files=files)
        if spared:
            self._engine.run(f"drop table {spared}")
        return gone

    def _temp_keys(self, name: str, family: Family, keys: Sequence[TableBatch]) -> str:
        columns = [c for c in family.root.columns if c.name in family.key]
        self._engine.create_temp(name, columns)
        for batch in keys:
            self._engine.insert(self._engine.temp + name, columns, batch)
        return self._engine.temp + name

    def _ensure(self, family: Family, layout: TableLayout) -> None:
        there = self._engine.columns(layout.name)
        if there is not None:
            self._require_ours(layout, there)
        bring_up(self._engine, layout.name, [*system_columns(family, layout), *layout.columns, LOAD, AT, *self._mode_columns()])

    def _mode_columns(self) -> list[ColumnShape]:
        return [*((SINCE, UNTIL) if self._history else ()), *((DELETED_AT,) if self._marks else ())]

    def _require_ours(self, layout: TableLayout, there: dict[str, str]) -> None:
        known, feed = layout.name in self._known, self._target.feed
        require_ours(self._engine, layout.name, there, feed=feed, loaded=self._version > 0, known=known)

    # What the loader keeps in mind

    def _note_keys(self, family: Family, batch: TableBatch) -> bool:
        """Whether a key of the batch came before in this load, or comes twice in it, as far as memory reaches."""
        if not family.key or self._target.link == "row" or not batch.rows:
            return False
        if self._beside and not self._beside.wants_repeats(family):
            return False  # asked of the table itself, once it is whole
        # Rows that came while nobody noted keys, the family having had no children then, are unknown.
        return self._keys.repeats(family.key, batch, self.staged_rows)


def _add(counts: dict[str, int], more: Mapping[str, int]) -> None:
    for name, count in more.items():
        counts[name] = counts.get(name, 0) + count
