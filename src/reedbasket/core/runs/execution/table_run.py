"""Running one table: read, select what is new, shape, stage, commit."""

from __future__ import annotations

import time

from ...errors import PagesMoved, RunShutDown
from ...records.bounded_queue import BoundedQueue
from ...sources.batching import BackgroundReader, gathered
from ..planning.requested_window import passed_over
from .completion import refresh_derived
from .file_table_reader import FileSpoiled
from .table_commits import TableCommits
from .table_read import TableRead
from .table_staging import TableStaging
from .table_task import TableTask

# How often a table is read in one run while its list moves.
MOST_READS = 4


def run_table(task: TableTask) -> None:
    """Run one table to its end.

    A list that changed while its pages were read is read again, a limited number of times, until it does not.

    Raises:
        ReedError: the table failed; what was committed stays.
    """
    beyond = 0
    for reads in range(1, MOST_READS + 1):
        if task.replayed is None and (passed := passed_over(task.order, task.table, task.warehouse)) is not None:
            task.log("info", *passed)
            task.phase("done")
            return
        read = TableRead(task)
        try:
            _read_once(read, beyond)
            return
        except PagesMoved as moved_on:
            if reads == MOST_READS or task.context.stop.is_set():
                raise
            task.log("warning", moved_on.code, f"{moved_on.found}; the table is read again")
            beyond = read.tracker.beyond if read.tracker is not None else 0
            read.reset_counts()


def _read_once(read: TableRead, beyond: int) -> None:
    """Read the table once.

    Args:
        beyond: how many records of the previous read had a time after the start of the run; see CursorTracker.
    """
    task = read.task
    staging, commits = TableStaging(read), TableCommits(read)
    task.phase("reading")
    began = read.committed_at
    try:
        while not _gone_through(read, staging, commits, began):
            read.roll_back()
        _require_quiet(read, beyond)
        _end_reading(read, staging)
        commits.finish()
        if read.aside is not None:
            task.session.keep(task.table.name, read.reader.cursor_from, read.aside)
    finally:
        task.progress.seconds = time.monotonic() - began
        read.load.close()
    done = refresh_derived(task.order, task.table, task.warehouse, read.load.version)
    if done:
        task.log("info", "table.derived", done)
    problem = read.reader.problem() if not task.replays else None
    if problem is not None:
        raise problem


def _gone_through(read: TableRead, staging: TableStaging, commits: TableCommits, began: float) -> bool:
    """Stage and commit all chunks. False if a damaged file has to be left out as a whole, so that the table is read again."""
    task = read.task
    chunks = task.session.chunks(read.reader) if read.replayed is None else iter([read.replayed.chunk()])
    try:
        handed = (
            chunks if isinstance(chunks, BoundedQueue) else BackgroundReader(chunks, f"{task.order.feed}.{task.table.name}")
        )
        handed.stop = task.context.stop
        with handed:
            read.handed = handed
            for chunk in gathered(handed, task.order.rows_per_commit):
                task.progress.seconds = time.monotonic() - began
                staging.take(chunk)
                if chunk.mark is not None:
                    read.reader.handed_on(chunk.mark)
                if commits.may_commit(chunk):
                    commits.commit(ended=False)
                    if task.context.wind_up.is_set():
                        raise RunShutDown("reading", task.table.name, found="it was stopped; what it had read was committed")
    except FileSpoiled as spoiled:
        words = f"{spoiled.on}: {spoiled.found}; what was read since the last commit is read again"
        task.log("warning", spoiled.code, words)
        return False
    return True


def _require_quiet(read: TableRead, beyond: int) -> None:
    """Check that no record can have moved behind a page that was already read.

    Raises:
        PagesMoved: records of this very moment were among pages that are identified by their position. If the same number is met twice,
            they did not move.
    """
    task, tracker = read.task, read.tracker
    if tracker is None or not read.reader.places_shift or not tracker.beyond or tracker.beyond == beyond:
        return
    raise PagesMoved(
        "reading",
        task.table.name,
        found=f"{task.progress.held_back} records changed after the run started, so the list may have shifted while its pages "
        "were read",
        fix="run again when fewer records change; if the source's clock is ahead or its list keeps changing, paginate by token",
    )


def _end_reading(read: TableRead, staging: TableStaging) -> None:
    """Finish after the last record. Raises whatever kept a complete read from being complete."""
    task = read.task
    if task.table.whole and (unread := read.reader.problem()) is not None:
        # What could not be read has not gone, and half of a state is none: nothing is removed, and nothing written.
        raise unread
    if read.tracker is not None and (words := read.tracker.format_change) is not None:
        task.log("warning", "cursor.format_changed", words)
    staging.stage_rest()
    if not task.replays:
        for note in read.reader.ended_notes:
            task.log(*note)
        task.progress.lag = read.reader.lag
