"""One load, the same for all engines: rows are staged until a commit publishes them with ledger and cursor."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from contextlib import suppress
from dataclasses import replace
from datetime import datetime
from typing import Any

from typing_extensions import override

from ...errors import ConnectionLost, ReedError
from ...records.layout import Family
from ...records.ledger import LedgerLine
from ...shaping.batch import TableBatch
from ..engine import Engine
from ..limits import require_column_limit
from ..loading import Differences, Load, LoadTarget, Position
from ..warehouse import TableState
from . import write_modes as modes
from .commit import LoadCommit
from .comparison import differences
from .publication import publish
from .shadow_table import ShadowBuild
from .stage import Stage
from .staged import Staged


class EngineLoad(Load):
    """See warehouses.warehouse.Load."""

    def __init__(
        self, engine: Engine, target: LoadTarget, state: TableState | None, shadow: Callable[[], ShadowBuild] | None
    ) -> None:
        """Prepare; nothing is staged yet.

        Args:
            shadow: makes a new shadow build; None if the load does not build in shadow tables.
        """
        self._engine = engine
        self._target = target
        self._state = state
        self._version = state.version if state else 0
        self._known = {t.name for t in state.structure.family()} if state else set()
        waits, keyed = engine.stamps_on_insert and target.write == "append", target.write != "append"
        self._staged = Staged(Stage(engine, waits=waits, keyed=keyed))
        # A tombstone is told from the rows of its key in the stage, and only there.
        builds = (
            (target.link == "key" or target.flat)
            and not target.tombstones
            and (state is None or (target.write == "replace" and not target.again))
        )
        self._new_shadow = shadow if builds else None
        self._shadow = shadow() if builds and shadow else None
        self.staged_rows = 0
        self.notes: list[str] = []

    @property
    @override
    def version(self) -> int:
        return self._version

    @override
    def stage(self, family: Family, batches: Sequence[TableBatch]) -> None:
        if not batches:
            return
        require_column_limit(self._engine.limits, family)
        repeats = self._note_keys(family, batches[0])
        with self._engine.translated(f"staging rows for {self._target.table} in"):
            if self._shadow:
                self._shadow.add(self._keyed(family), batches, repeats=repeats)
            else:
                for batch in batches:
                    self._staged.stage.add(family, batch)
        self.staged_rows += batches[0].rows

    @override
    def rejected_in(self, runs: Sequence[int]) -> None:
        self._staged.rejected_in = list(runs)

    @override
    def mark_present(self, keys: TableBatch) -> None:
        self._staged.present.append(keys)

    @override
    def mark_all_present(self, files: Iterable[int | None] | None = None) -> None:
        self._staged.all_present = self._staged.all_present or files is None
        self._staged.present_files.update(files or ())

    @override
    def delete_keys(self, keys: TableBatch) -> None:
        self._staged.gone.append(keys)

    @override
    def tombstones(self, keys: TableBatch) -> None:
        self._staged.tombstones.append(keys)
        self.staged_rows += keys.rows

    @override
    def stage_unchanged(self, column: str, rows: TableBatch) -> None:
        self._staged.unchanged.setdefault(column, []).append(rows)

    @override
    def truncated(self) -> None:
        with self._engine.translated("clearing the stage of"):
            self._staged.truncate_stage()

    @override
    def differences(self, family: Family, *, deep: bool, samples: int) -> list[Differences]:
        engine, stage = self._engine, self._staged.stage
        with engine.translated(f"comparing {self._target.table} in"):
            for layout in family.tables:
                stage.prepare(family, layout)
            engine.begin()
            try:
                if family.key:
                    modes.drop_superseded(engine, stage, family)
                rows_linked = self._target.link == "row"
                return differences(engine, stage, family, deep=deep, samples=samples, rows_linked=rows_linked)
            finally:
                engine.rollback()

    @override
    def commit(self, family: Family, structure: dict[str, Any], position: Position, now: datetime) -> list[LedgerLine]:
        engine = self._engine
        require_column_limit(engine.limits, family)
        self._staged.keys.forget()  # all is staged: none is looked up any more, and they take room
        commit = LoadCommit(
            engine,
            self._target,
            self._state,
            self._version,
            self._known,
            self._staged,
            self._shadow,
            self._keyed(family) if self._shadow else family,
            structure,
            position,
            now,
        )
        with engine.translated(f"committing {self._target.table} to"):
            publish(engine, commit)
        self.notes += commit.notes
        self._begin_next(family)
        return commit.lines

    def _begin_next(self, family: Family) -> None:
        """All is committed: what comes now is for the next commit."""
        self._state = None
        self._version += 1
        self._known |= {layout.name for layout in family.tables}
        self.staged_rows = 0
        self._staged = self._staged.next()
        try:
            with self._engine.translated("clearing the stage of"):
                self._staged.stage.clear()
        except ConnectionLost:
            # The load is committed; what was staged went with the connection.
            self._engine.reconnect()
            self._staged.stage = Stage(self._engine, keyed=self._target.write != "append")
        if self._shadow:
            self._shadow.placed()
            again = self._target.write == "replace" and self._new_shadow
            self._shadow = self._new_shadow() if again and self._new_shadow else None

    @override
    def close(self) -> None:
        # A failing clean-up must not hide why the load ended; what was being built is cleared by the next run.
        self._engine.abandon()
        with suppress(ReedError), self._engine.translated("dropping the stage of"):
            if self._shadow:
                self._shadow.drop()
            self._staged.stage.drop()

    def _keyed(self, family: Family) -> Family:
        """In append mode every record is a row of its own, so the key is ignored."""
        return replace(family, key=[]) if self._target.write == "append" else family

    def _note_keys(self, family: Family, batch: TableBatch) -> bool:
        """Whether a key of the batch is repeated in it or in this load, as far as is remembered."""
        if not family.key or self._target.link == "row" or not batch.rows:
            return False
        if self._shadow and not self._shadow.needs_repeated_keys(family):
            return False  # asked of the table itself, once it is whole
        # Rows that came while nobody noted keys, the family having had no children then, are unknown.
        return self._staged.keys.repeats(family.key, batch, self.staged_rows)
