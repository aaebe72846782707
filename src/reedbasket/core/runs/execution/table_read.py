"""One read of a table: its reader, its shaper, the load it is staged in, and what was counted since the last commit."""

from __future__ import annotations

import time
from collections.abc import Sequence

from ...records.bounded_queue import BoundedQueue
from ...shaping.columns import ColumnWork
from ...shaping.rules import Change
from ...shaping.unchanged_values import UnchangedValues
from ...sources.chunk import Chunk
from ...warehouses import TableState
from ...warehouses.loading import LoadTarget
from ..checkpoints.resume import held_of, moved, require_accepted, shaper_for
from .compare import comparer_for
from .completion import notes_of, target_of
from .deleted_records import tombstone_test
from .load_counts import CountsSinceCommit
from .source_session import ReadStart
from .spool import Spool
from .table_reader import saved_of
from .table_task import TableTask


class TableRead:
    """The state of one read, from its first record to its last commit.

    Attributes:
        task: the run of the table that this read belongs to.
        replayed: the task's rejected records, without those rejected again.
        shaper: shapes records; made anew with each load.
        reader: reads the source.
        tracker: follows the cursor; None if the position is known in another way.
        compare: tells new and changed records from known ones; None if the source does.
        columns: casts, filters and computes.
        change: what a changed write mode requires of the next commit.
        tombstone: tests whether a record is a tombstone; None if there are none.
        aside: keeps the table's records for tables that are read by them; None if there are none.
        reads_everything: rows that are not read no longer exist.
        load: the rows staged since the last commit.
        since: the counts since the last commit.
        next_owner: the number of the next record in this load, which child rows refer to.
        unchanged_values: columns that the change log does not send for some rows.
        handed: brings chunks from the reader's thread.
        cursor_from: where the next ledger line begins, as text.
        committed_at: when the last commit, or the read, happened; monotonic seconds.
    """

    def __init__(self, task: TableTask) -> None:
        """Prepare to read.

        Raises:
            ReedError: what the warehouse has of the table cannot be migrated, or the source cannot be read.
        """
        order, table, replays = task.order, task.table, task.replays
        state = task.warehouse.state(order.feed, table.name)
        self.task = task
        self.replayed = task.replayed
        self.change = moved(table, state)
        self._accept_change()
        saved = saved_of(table, state, self.change) if task.moves_cursor else None
        self.shaper = shaper_for(order, table, state, again=replays)
        start = ReadStart(
            saved,
            expected=(lambda: self.shaper.expected_columns) if self._in_columns else None,
            held=held_of(table, order.feed, task.warehouse, state),
        )
        self.reader = task.session.open_reader(table, start)
        self.cursor_from: str | None = None
        self._begin_reader()
        self.tracker = None if replays else self.reader.tracker
        self.compare = None if replays else comparer_for(order.feed, table, task.warehouse, state, self.change)
        self.columns = ColumnWork(self.shaper.rules, task.hash_key, value_limits=task.warehouse.value_limits)
        # Appended, a record that says it is gone is a row like any other.
        self.tombstone = tombstone_test(table.rule) if table.rule and table.write != "append" else None
        self.aside = Spool() if task.session.has_dependents(table.name) and not replays else None
        self.reads_everything = not replays and self.reader.reads_everything and state is not None
        self.since = CountsSinceCommit(task.clock())
        self.next_owner = 0
        self.unchanged_values = UnchangedValues()
        self.handed: BoundedQueue[Chunk] = BoundedQueue()
        self._begin_load(state)
        self._counted = task.progress.counts()
        self.committed_at = time.monotonic()

    def _accept_change(self) -> None:
        task = self.task
        require_accepted(task.table, self.change, task.order.accept)
        for step in self.change.steps:
            task.log("info", "table.migrated", step)
        for loss in self.change.losses:
            task.log("warning", "table.data_dropped", f"dropped, as accepted: {loss}")

    def _begin_reader(self) -> None:
        task, reader = self.task, self.reader
        if not task.replays:
            task.session.begin(reader)
        self.shaper.exclude_columns(reader.left_out)
        if not task.replays:
            for note in reader.notes:
                task.log(*note)
            self.cursor_from = task.progress.cursor_from = reader.from_text

    def _begin_load(self, state: TableState | None) -> None:
        self.load = self.task.warehouse.begin(self.target, state)

    def roll_back(self) -> None:
        """Return to the last commit, and drop everything staged since."""
        task = self.task
        self.load.close()
        state = task.warehouse.state(task.order.feed, task.table.name)
        self.shaper = shaper_for(task.order, task.table, state, again=task.replays)
        self._begin_load(state)
        self.reset_counts()
        self.since, self.next_owner = CountsSinceCommit(task.clock()), 0

    def reset_counts(self) -> None:
        """Reset the counts of the run to those of the last commit."""
        for name, value in self._counted.items():
            setattr(self.task.progress, name, value)

    def committed(self) -> None:
        """Start counting anew after a commit."""
        self.since = CountsSinceCommit(self.task.clock(), read_before=self.handed.reading_seconds)
        self.next_owner = 0
        self.committed_at = time.monotonic()
        self.unchanged_values.committed()
        self._counted = self.task.progress.counts()

    def log_structure_changes(self, changes: Sequence[Change]) -> None:
        """Log what is new or missing in the structure: learned at the first load, drift later."""
        if not changes:
            return
        for note in notes_of(changes, drifted=self.shaper.expected):
            self.task.log(*note)
        if self.shaper.expected:
            self.task.listener.drift(self.task.table.name, changes)

    @property
    def target(self) -> LoadTarget:
        """What the load needs to know about the table."""
        task = self.task
        # A compare says by itself what has gone, once it has something to compare with.
        complete = task.complete and not (self.compare and self.compare.compared)
        return target_of(
            task.order,
            task.table,
            complete=complete,
            again=task.replays,
            tombstones=self.tombstone is not None or (not task.replays and self.reader.is_cdc),
            reads_everything=self.reads_everything,
            flat=not task.replays and self.reader.flat,
        )

    @property
    def _in_columns(self) -> bool:
        """Whether nobody looks at the records one by one."""
        task = self.task
        rule = task.table.rule
        one_by_one = rule.deleted_when is not None if rule is not None else task.order.files is None
        one_by_one = one_by_one or task.table.by == "compare"
        return not one_by_one and not task.session.has_dependents(task.table.name)
