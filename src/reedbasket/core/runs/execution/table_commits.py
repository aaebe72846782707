"""When a read commits what it has staged, and with what."""

from __future__ import annotations

import time

from ...shaping.selection import key_batch
from ...sources.chunk import Chunk
from ...warehouses.loader.write_mode_migration import Transition
from .compare import missing_keys_of
from .completion import closing_notes, require_not_all_rejected
from .table_read import TableRead

# A load of several passes commits what it has this often, where a pass has just ended.
_COMMIT_SECONDS = 2.0


class TableCommits:
    """The commits of one read."""

    def __init__(self, read: TableRead) -> None:
        self._read = read
        self._task = read.task

    def may_commit(self, chunk: Chunk) -> bool:
        """Whether to commit before the end: only if every record before the position was read, and none beyond it is staged."""
        read, task = self._read, self._task
        if read.change.reloads_children or not read.reader.can_commit or not task.moves_cursor or read.reads_everything:
            return False
        if read.load.staged_rows >= task.order.rows_per_commit or task.context.wind_up.is_set():
            return read.tracker is not None or chunk.mark is not None
        if read.reader.commits_only_large_loads:
            return False
        # Passes that take long each are kept as they come: a run that is cut goes on behind them.
        return chunk.mark is not None and time.monotonic() - read.committed_at >= _COMMIT_SECONDS

    def finish(self) -> None:
        """Commit the rest after the last record, and log what there is to say.

        Raises:
            TooManyRejects: the limit is passed.
            RunCancelled: the run was cancelled.
        """
        read, task = self._read, self._task
        if read.reader.unchanged:
            task.log("info", "table.unchanged", "the source answered that nothing changed since the last run")
            task.phase("done")
            return
        task.require_not_cancelled("loading")
        if not task.replays:
            require_not_all_rejected(task.order, task.table.name, task.progress)
        for note in closing_notes(task.progress, read.shaper):
            task.log(*note)
        structure_moved = False
        if task.progress.read:
            vanished = read.shaper.compare_with_expected()
            read.log_structure_changes(vanished)
            structure_moved = bool(vanished)
        gone = self._find_gone()
        if gone or structure_moved or self._has_news():
            self.commit(ended=True)
        if task.table.removes and not task.replays and not task.order.apart:
            task.listener.saw_all_records(task.table.name)
        task.phase("done")

    def _has_news(self) -> bool:
        """Whether the warehouse is to be told of something, be it only that all is as it was."""
        read, task = self._read, self._task
        since, compare = read.since, read.compare
        return bool(
            read.load.staged_rows
            or since.rejected
            or (read.change.needed and not task.replays)
            or (since.unchanged and compare and not compare.compared)
            or (task.complete and task.table.write in ("replace", "mirror", "versions") and not compare)
            or (not task.replays and read.reader.has_progress and read.tracker is None)
            or task.window is not None
        )

    def _find_gone(self) -> bool:
        """After a compare: the keys of what the source no longer shows, handed to the load."""
        read, task = self._read, self._task
        family = read.columns.layout_of(read.shaper.family)
        found = missing_keys_of(read.compare, task.table, family, task.warehouse) if read.compare else []
        if found:
            read.load.delete_keys(key_batch(family, found))
        return bool(found)

    def commit(self, *, ended: bool) -> None:
        """Commit what is staged, with its ledger line and cursor.

        Args:
            ended: this was the last record of the read.
        """
        read, task = self._read, self._task
        task.phase("committing")
        load, since, progress = read.load, read.since, task.progress
        cursor = read.reader.position(ended=ended) if task.moves_cursor else None
        position = since.position(
            cursor,
            read.cursor_from,
            read.handed.reading_seconds,
            forget_cursor=read.change.forget_cursor,
            hashes=read.compare.hashes_to_keep() if read.compare else None,
            files=read.reader.file_lines() if not task.replays else (),
            window=task.window,
        )
        family = read.columns.layout_of(read.shaper.family)
        lines = load.commit(family, read.shaper.structure.to_data(), position, task.clock())
        for note in load.notes:
            task.log("info", "table.migrated", note)
        load.notes.clear()
        for name in ("inserted", "updated", "deleted", "unchanged"):
            # Compared and unchanged ones were counted as they came.
            before = since.unchanged if name == "unchanged" else 0
            setattr(progress, name, getattr(progress, name) + getattr(lines[0], name) - before)
        progress.cursor_to = lines[0].cursor_to
        task.listener.loaded(lines)
        read.change = Transition(forget_cursor=False, reloads_children=read.change.reloads_children)
        read.committed()
        if not task.replays:
            read.reader.committed(cursor)
        if cursor is not None and cursor.kind != "tag":
            read.cursor_from = cursor.shown
        task.phase("reading")
