"""The steps of one commit. `publication.py` says in which transactions they happen."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

from ...records.layout import Family, TableLayout
from ...records.ledger import LedgerLine
from ...records.structure import ColumnShape
from ...shaping.batch import TableBatch
from ...spec.model import KEYED
from ..engine import AT, DELETED_AT, FILE, LOAD, SINCE, UNTIL, Engine, rfc3339
from ..loading import LoadTarget, Position
from ..merge import Counts, Stamp
from ..warehouse import TableState
from . import service_tables
from . import write_modes as modes
from .file_list import drop_replaced, save_files
from .fill_unchanged import fill_unchanged
from .ledger_lines import ledger_lines
from .removal_limit import require_few_removed, rows_held
from .requirements import require_owned
from .shadow_table import ShadowBuild
from .stage import ensure_table, key_of, system_columns
from .staged import Staged
from .staged_deletes import ResolvedDeletes, joined, resolve_deletes
from .write_mode_migration import WriteModeMigration, drop_version_columns


class LoadCommit:
    """One commit of one load.

    Attributes:
        family: the table and its child tables, as they will be.
        shadow: where the rows were built; None if they are staged.
        stamps: one for each table, once they are reserved.
        lines: of the ledger, once the rows are written.
        notes: what was done to migrate the table, in words.
        migration: from another write mode; None if there is none.
    """

    def __init__(  # noqa: PLR0913 - what a load knows when it commits
        self,
        engine: Engine,
        target: LoadTarget,
        state: TableState | None,
        version: int,
        known: set[str],
        staged: Staged,
        shadow: ShadowBuild | None,
        family: Family,
        structure: dict[str, Any],
        position: Position,
        now: datetime,
    ) -> None:
        """Prepare; nothing is written yet.

        Args:
            version: of the state that the load builds on.
            known: tables that the feed has created before.
        """
        self._engine = engine
        self.target = target
        self._version = version
        self._known = known
        self.staged = staged
        self.shadow = shadow
        self.family = family
        self._structure = structure
        self._position = position
        self._now = now
        self._began = time.monotonic()
        self._there: dict[str, dict[str, str] | None] = {}
        self._service = service_tables.PresentTables()
        self._built: list[Counts] = []
        self.stamps: list[Stamp] = []
        self.lines: list[LedgerLine] = []
        self.notes: list[str] = []
        self.migration: WriteModeMigration | None = None
        self._kept_no_versions = state is not None and "versions" not in (state.write, target.write)
        if state is not None and shadow is None and target.write != "replace" and not target.again:
            self.migration = WriteModeMigration.of(engine, family, target, state)

    @property
    def _history(self) -> bool:
        return self.target.write == "versions"

    @property
    def _marks(self) -> bool:
        return self.target.deletes == "soft" and self.target.write in KEYED

    @property
    def forgets_cursor(self) -> bool:
        """Whether the saved cursor is no longer valid."""
        return self._position.forget_cursor

    # What has to hold

    def guard(self, made: Sequence[str] = ()) -> None:
        """Nobody committed meanwhile, and the tables are this feed's.

        Args:
            made: tables that a commit of this feed made that was then cut.

        Raises:
            CursorMoved, TableNotOwned: it does not.
        """
        engine, target = self._engine, self.target
        engine.serialise(target.feed, target.source_table)
        self._service = service_tables.present(engine, self._position)
        service_tables.guard(engine, self._service, target, self._version)
        for layout in self.family.tables:
            there = self._there[layout.name] = engine.columns(layout.name)
            if there is not None and layout.name not in made:
                known, loaded = layout.name in self._known, self._version > 0
                require_owned(engine, layout.name, there, feed=target.feed, loaded=loaded, known=known)

    # Structure

    @property
    def new_tables(self) -> list[str]:
        """The tables that `tables` will create."""
        return [] if self.shadow else [layout.name for layout in self.family.tables if self._there[layout.name] is None]

    def tables(self) -> None:
        """Create or extend the service tables, the stage and the warehouse tables."""
        engine, stage = self._engine, self.staged.stage
        service_tables.ensure(engine, self._service)
        engine.prepare_commit([layout.name for layout in self.family.tables])
        if self.shadow:
            return
        for layout in self.family.tables:
            if not stage.waiting(self.family, layout):
                stage.prepare(self.family, layout)
            columns = [*system_columns(self.family, layout), *layout.columns, LOAD, AT, *self._mode_columns()]
            ensure_table(engine, layout.name, columns, self._there[layout.name])
        if engine.ddl_commits and self._kept_no_versions:
            drop_version_columns(engine, self.family)  # a commit that was cut left them

    def index(self) -> None:
        """Index the stage, as far as the rows are looked up in it."""
        if self.shadow or not self.family.key or self.target.write == "append":
            return
        for layout in self.family.tables:
            if not self.staged.stage.waiting(self.family, layout):
                self._engine.index_stage(self.staged.stage.prepare(self.family, layout), key_of(self.family, layout))

    def _mode_columns(self) -> list[ColumnShape]:
        return [*((SINCE, UNTIL) if self._history else ()), *((DELETED_AT,) if self._marks else ())]

    def reserve(self) -> None:
        """Reserve the ids of this load."""
        now = self._engine.time(self._now)
        self.stamps = [Stamp(load, now) for load in self._engine.next_loads(len(self.family.tables))]

    def keys(self) -> None:
        """Create the index of each table's key, which a merge needs."""
        appends = self.target.write == "append" or not self.family.key
        if self.shadow or appends or (self.target.write == "replace" and not self.target.again):
            return
        self._ensure_keys()

    def _ensure_keys(self) -> None:
        for layout in self.family.tables:
            if key := key_of(self.family, layout):
                self._engine.ensure_key(layout.name, key, current=self._history)

    # Shadow tables

    def complete(self) -> None:
        """Prepare the shadow tables to replace the tables."""
        if self.shadow:
            extra = [(column, self.stamps[0].at if column is SINCE else "null") for column in self._mode_columns()]
            self._built = self.shadow.complete(self.family, self.stamps, extra)

    def swap_in(self) -> None:
        """Replace the tables by the shadow tables, in the transaction that writes the rows."""
        if self.shadow:
            self.shadow.swap_in(self.family)
            self._ensure_keys()

    # Rows

    def rows(self) -> None:
        """Write rows, ledger, cursor and everything else that is kept with them."""
        engine, target, position = self._engine, self.target, self._position
        replaced = [line.number for line in position.files if line.replaces]
        counts = self._replace_all() if self.shadow else self._write(replaced)
        root = self.family.root.name
        read = dict(self.shadow.read if self.shadow else self.staged.stage.rows)
        read[root] = read.get(root, 0) + sum(keys.rows for keys in self.staged.tombstones) + self.staged.overtaken
        counts[0].superseded += self.staged.overtaken
        seconds = time.monotonic() - self._began
        self.lines = ledger_lines(target, self.family, read, self.stamps, counts, position, self._now, seconds)
        service_tables.keep_ledger(engine, self.lines)
        load = self.stamps[0].load
        if position.files:
            new = self._service.columns[FILE] is None
            save_files(engine, target.feed, target.source_table, position.files, load, rfc3339(self._now), new=new)
        if position.hashes is not None:
            service_tables.save_hashes(engine, target, position.hashes, self._version + 1)
        if position.window is not None:
            service_tables.save_window(engine, target, position.window, load, self._now)
        service_tables.save(engine, target, self._structure, position, self._version + 1, load, self._now)

    def _replace_all(self) -> list[Counts]:
        root, held = self.family.root.name, 0
        for layout, count in zip(self.family.tables, self._built):
            if self._there[layout.name] is not None:
                count.removed = rows_held(self._engine, layout.name)
            if layout.parent is None:
                held = count.removed
        if self.target.write == "replace":
            require_few_removed(root, held - self._built[0].inserted, held, self.target.max_removed)
        return self._built

    def _write(self, replaced: Sequence[int]) -> list[Counts]:
        """From the stage: append, merge into what is there, or replace a table without a key."""
        target = self.target
        if target.write == "append" or not self.family.key or (target.write == "replace" and not target.again):
            return self._append(replaced)
        return self._merge(replaced)

    def _append(self, replaced: Sequence[int]) -> list[Counts]:
        engine, target, stage, family = self._engine, self.target, self.staged.stage, self.family
        counts = []
        overtaken = modes.drop_outdated_rejects(engine, stage, family, target, self.staged.rejected_in) if target.again else {}
        gone_before = [0] * len(self.stamps)
        if replaced:
            held = rows_held(engine, family.root.name)
            gone_before = drop_replaced(engine, family, replaced)
            fewer = gone_before[0] - stage.rows.get(family.root.name, 0)
            require_few_removed(family.root.name, fewer, held, target.max_removed)
        for layout, stamp, removed in zip(family.tables, self.stamps, gone_before):
            if target.write == "replace" and not target.again:
                # A keyed replace is built in a shadow table; without a key the old rows make room here, in the same transaction.
                if layout.parent is None:
                    held = rows_held(engine, layout.name)
                    require_few_removed(layout.name, held - stage.rows.get(layout.name, 0), held, target.max_removed)
                removed = engine.run(f"delete from {engine.table(layout.name)}")
            rows_linked = target.link == "row"
            done = modes.append(engine, stage, family, layout, stamp, self.stamps[0].load, rows_linked=rows_linked)
            done.removed, done.superseded = removed, overtaken.get(layout.name, 0)
            counts.append(done)
        return counts

    def _merge(self, replaced: Sequence[int]) -> list[Counts]:
        engine, target, stage, family = self._engine, self.target, self.staged.stage, self.family
        root, rejected_in = family.root.name, self.staged.rejected_in
        # Rows marked while the feed still said so are found again all the same.
        marks = "_rb_deleted_at" in (engine.columns(root) or {})
        held_now = "t._rb_valid_until is null" if self._history else "true"
        present = "t._rb_deleted_at is null" if marks and not self._history else held_now
        if self.staged.unchanged:
            fill_unchanged(engine, stage, family, self.staged.unchanged, held_now)
        superseded = modes.drop_superseded(engine, stage, family) if self.staged.keys.repeated else {}
        if target.again:
            _add(superseded, modes.drop_outdated(engine, stage, family, engine.table(root), held_now))
            _add(superseded, modes.drop_outdated_rejects(engine, stage, family, target, rejected_in, held_now))
        gone, resolved = self._gone_keys(marks, replaced), ResolvedDeletes()
        if gone and not self.staged.truncated:
            leaving = engine.query(f"select count(*) from {gone}")[0][0]
            require_few_removed(root, leaving, rows_held(engine, root, present), target.max_removed)
        if self.staged.tombstones and target.deletes == "ignore":
            resolved.unchanged = sum(batch.rows for batch in self.staged.tombstones)
        elif self.staged.tombstones:
            resolved = resolve_deletes(engine, stage, family, self.staged.tombstones, present, outdated=target.again)
            _add(superseded, resolved.dropped)
            gone = joined(engine, family, gone, resolved.gone)
        writing = modes.KeyedWrite(engine, stage, family, self.stamps, self._history, target.deletes, marks, gone, superseded)
        counts = writing.write()
        if gone:
            engine.drop_temp(gone)
        for layout, count in zip(family.tables, counts):
            count.superseded = superseded.get(layout.name, 0)
        counts[0].deleted += resolved.deleted
        counts[0].removed -= resolved.deleted
        counts[0].unchanged += resolved.unchanged
        counts[0].superseded += resolved.superseded
        return counts

    def _gone_keys(self, marks: bool, replaced: Sequence[int]) -> str | None:
        target, staged = self.target, self.staged
        replaced = [number for number in replaced if number not in staged.present_files]
        if target.deletes == "ignore" or target.again or staged.all_present:
            return None
        if staged.gone:
            return self._temp_keys("rb_gone", staged.gone)
        complete = target.complete and target.write in ("mirror", "versions")
        if not (complete or target.reads_everything or staged.truncated or replaced):
            return None
        present = self._temp_keys("rb_present", staged.present) if staged.present else None
        files = replaced if not (complete or target.reads_everything or staged.truncated) else ()
        gone = modes.find_gone(
            self._engine, staged.stage, self.family, present, history=self._history, marks=marks, files=files
        )
        if present:
            self._engine.drop_temp(present)
        return gone

    def _temp_keys(self, name: str, keys: Sequence[TableBatch]) -> str:
        root: TableLayout = self.family.root
        columns = [c for c in root.columns if c.name in self.family.key]
        self._engine.create_temp(name, columns, self.family.key)
        for batch in keys:
            self._engine.insert(self._engine.temp + name, columns, batch)
        return self._engine.temp + name


def _add(counts: dict[str, int], more: Mapping[str, int]) -> None:
    for name, count in more.items():
        counts[name] = counts.get(name, 0) + count
