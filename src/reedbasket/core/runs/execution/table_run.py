"""One table of one run: read, take what is new, shape, stage, commit."""

from __future__ import annotations

import time
from collections.abc import Sequence
from typing import Any

from ...changes.cursor import CursorTracker
from ...errors import PagesMoved, RunCancelled, RunWoundUp
from ...records.bounded_queue import BoundedQueue
from ...records.change_records import LoggedRecords
from ...records.column_records import alike, joined
from ...shaping.batch import Reject, Shaped
from ...shaping.columns import ColumnWork, Worked
from ...shaping.rejected_keys import has_key, rejected_keys
from ...shaping.shared_batch import SharedBatch
from ...sources.batching import RECORDS_PER_BATCH, Feeder, gathered
from ...sources.chunk import Chunk, Origin
from ...warehouses import TableState
from ..checkpoints.resume import held_of, moved, require_accepted, shaper_for
from ..planning.requested_window import passed_over
from .compare import comparer_for
from .completion import refresh_derived, require_few
from .deleted_records import ended_by, keys_of, tombstone_test
from .file_table_reader import FileSpoiled
from .reject_origins import misread, placed, tell_files
from .spool import Spool
from .table_commits import TableCommits
from .table_reader import saved_of

# How often a table is read in one run while its list moves.
MOST_READS = 4


class TableRun(TableCommits):
    """Runs one table to its end. `progress` is kept up to date throughout."""

    def run(self) -> None:
        """Raises ReedError; what was committed before stays. A list that moved while its pages were read is read again until it is
        quiet, so many times."""
        beyond = 0
        for reads in range(1, MOST_READS + 1):
            try:
                self._run_once(beyond)
                return
            except PagesMoved as moved_on:
                if reads == MOST_READS or self._stop.is_set():
                    raise
                self._log("warning", moved_on.code, f"{moved_on.found}; the table is read once more")
                beyond = self._tracker.beyond if self._tracker is not None else 0
                self._begin_anew()

    def _run_once(self, beyond: int) -> None:
        """beyond: of the read before, see CursorTracker."""
        order, table = self._order, self._table
        passed = passed_over(order, table, self._warehouse) if self._again is None else None
        if passed is not None:
            self._log("info", *passed)
            self._phase("done")
            return
        state = self._warehouse.state(order.feed, table.name)
        self._prepare(state)
        self._load = self._warehouse.begin(self._target, state)
        self._at_commit = self.progress.counts()
        self._phase("reading")
        began = self._committed = time.monotonic()
        try:
            while not self._gone_through(began):
                self._start_over()
            self._require_quiet(beyond)
            self._end_reading()
            self._finish()
            if self._aside is not None:
                self._reading.keep(table.name, self._reader.cursor_from, self._aside)
        finally:
            self.progress.seconds = time.monotonic() - began
            self._load.close()
        done = refresh_derived(order, table, self._warehouse, self._load.version)
        if done:
            self._log("info", "table.clean", done)
        problem = self._reader.problem() if self._again is None else None
        if problem is not None:
            raise problem

    def _prepare(self, state: TableState | None) -> None:
        """All that a read needs. state: what the warehouse has of the table. Raises ReedError where that cannot be brought along."""
        order, table, replays = self._order, self._table, self._again is not None
        change = moved(table, state)
        require_accepted(table, change, order.accept)
        for step in change.steps:
            self._log("info", "table.brought_along", step)
        for loss in change.losses:
            self._log("warning", "table.not_kept", f"let go, as accepted: {loss}")
        saved = saved_of(table, state, change) if self._moves_cursor else None
        self._shaper = shaper_for(order, table, state, again=replays)
        self._reader = self._reading.take(
            table,
            saved,
            expected=(lambda: self._shaper.expected_columns) if self._in_columns else None,
            held=held_of(table, order.feed, self._warehouse, state),
        )
        if not replays:
            self._reading.begin(self._reader)
        self._shaper.leave_out(self._reader.left_out)
        if not replays:
            for note in self._reader.notes:
                self._log(*note)
            self._cursor_from = self.progress.cursor_from = self._reader.from_text
        self._tracker = None if replays else self._reader.tracker
        self._compare = None if replays else comparer_for(order.feed, table, self._warehouse, state, change)
        self._columns = ColumnWork(self._shaper.rules, self._hash_key, nul_in_text=self._warehouse.nul_in_text)
        self._change = change
        # Appended, a record that says it is gone is a row like any other.
        self._gone = tombstone_test(table.rule) if table.rule and table.write != "append" else None
        # Those who ask by its records go through them once more.
        self._aside = Spool() if self._reading.has_dependents(table.name) and not replays else None
        self._reads_all = not replays and self._reader.reads_all and state is not None

    def _end_reading(self) -> None:
        """What is left to do and to say once all records came. Raises what kept a complete read from being one."""
        if self._table.whole and (unread := self._reader.problem()) is not None:
            # What could not be read has not gone, and half of a state is none: nothing is removed, and nothing written.
            raise unread
        if self._tracker is not None and (words := self._tracker.other_writing) is not None:
            self._log("warning", "cursor.other_writing", words)
        if self._differing:
            self._work(joined(self._differing), [], time.monotonic(), suspicious=self._suspicious)
        if self._again is None:
            for note in self._reader.ended_notes:
                self._log(*note)
            self.progress.lag = self._reader.lag

    def _gone_through(self, began: float) -> bool:
        """All chunks taken; not so where one of them turned out to be of a file that has to be left out as a whole."""
        order = self._order
        chunks = self._reading.chunks(self._reader) if self._again is None else iter([self._again.chunk()])
        try:
            handed = chunks if isinstance(chunks, BoundedQueue) else Feeder(chunks, f"{order.feed}.{self._table.name}")
            handed.stop = self._stop
            with handed:
                self._handed = handed
                for chunk in gathered(handed, order.commit_every):
                    self.progress.seconds = time.monotonic() - began
                    self._take(chunk)
                    if chunk.mark is not None:
                        self._reader.followed(chunk.mark)
                    if self._may_commit(chunk):
                        self._commit(ended=False)
                        if self._wind_up.is_set():
                            raise RunWoundUp("reading", self._table.name, found="it was asked to end; what it had is committed")
        except FileSpoiled as spoiled:
            self._log(
                "warning", spoiled.code, f"{spoiled.on}: {spoiled.found}; what was read since the last commit is read once more"
            )
            return False
        return True

    def _require_quiet(self, beyond: int) -> None:
        """Raises PagesMoved where records of this very moment were met among pages that are told apart by where they lie: some may have
        moved there from behind a page already read. Met alike twice, they stood there all the while."""
        tracker = self._tracker
        if tracker is None or not self._reader.shifts or not tracker.beyond or tracker.beyond == beyond:
            return
        raise PagesMoved(
            "reading",
            self._table.name,
            found=f"{self.progress.held_back} records have a time behind the run's start, so that the list may have moved while its "
            "pages were read",
            mend="run again in a quiet hour; if the source's clock is ahead, or its list never rests, ask for pages by a token",
        )

    @property
    def _in_columns(self) -> bool:
        """Whether nobody looks at the records one by one."""
        rule = self._table.rule
        one_by_one = rule.deleted is not None if rule is not None else self._order.files is None
        one_by_one = one_by_one or self._table.by == "compare"
        return not one_by_one and not self._reading.has_dependents(self._table.name)

    def _take(self, chunk: Chunk) -> None:
        if self._stop.is_set():
            raise RunCancelled("reading", self._table.name, found="the run was cancelled; what was committed stays")
        progress, since, records = self.progress, self._since, chunk.records
        progress.expected = chunk.total if progress.expected is None else progress.expected
        since.source_bytes += chunk.body_bytes
        since.count(progress, repeated=chunk.repeated)
        began = time.monotonic()
        rejects = [misread(found) for found in chunk.misfits]
        if self._aside is not None:
            self._aside.add(records)
        if self._tracker:
            records = self._track(self._tracker, records, rejects)
        elif self._again is not None and self._table.rule is not None and self._reader.tracker is not None:
            # Rejected again, as on the first read: accepting it would widen the column to text and break the cursor.
            rejects += self._reader.tracker.unreadable(records)
            self._again = self._again.without({reject.index for reject in rejects})
            records = self._again.records
        progress.read += len(records) + len(rejects)
        if self._compare:
            compared = self._compare.take(records)
            since.count(progress, unchanged=compared.unchanged)
            self._suspicious = self._suspicious or chunk.suspicious
            if self._differing and not alike(self._differing[-1], compared.records):
                records, self._differing = joined(self._differing), []
                self._work(records, [], began, suspicious=self._suspicious)
            if compared.records:
                self._differing.append(compared.records)
            # A few of each page: shaped together, they cost a tenth.
            if sum(map(len, self._differing)) < RECORDS_PER_BATCH and not rejects:
                self._listener.progress(progress)
                return
            records, self._differing = joined(self._differing), []
        origins = chunk.origins if not self._compare else ()
        once = chunk.once if records is chunk.records else None
        self._work(records, rejects, began, suspicious=chunk.suspicious or self._suspicious, origins=origins, once=once)

    def _work(
        self,
        records: Sequence[dict[str, Any]],
        rejects: list[Reject],
        began: float,
        *,
        suspicious: bool,
        origins: Sequence[Origin] = (),
        once: SharedBatch | None = None,
    ) -> None:
        """Shape and stage. rejects: what could not even be read. origins: of the records, where they came out of files. once: where
        others are given the same."""
        progress, since = self.progress, self._since
        if isinstance(records, LoggedRecords) and records.emptied:
            self._log("info", "log.emptied", "the table was emptied at the source")
            self._load.emptied()
            self._listener.gone(self._table.name, self._table.key, None)
        first_owner = once.first_owner if once else self._owner
        if once:
            shaped = once.by(self._shaper, records, suspicious=suspicious)
        else:
            shaped = self._shaper.shape(records, first_owner, suspicious=suspicious)
        self._owner = first_owner + shaped.records
        self._tell_changes(shaped.changes)
        unshaped = [reject.index for reject in shaped.rejects]
        if self._table.by_file and shaped.batches:
            tell_files(shaped.batches[0], origins, first_owner, unshaped)
        worked = self._columns.work(shaped, self._gone)
        rejects += placed(shaped.rejects, origins, ()) + placed(worked.rejects, origins, unshaped)
        progress.read -= worked.filtered
        since.count(progress, rejected=len(rejects), filtered=worked.filtered)
        self._tell_gone(records, rejects, worked)
        staging = time.monotonic()
        since.shaping += staging - began
        if self._again is not None:
            left = set(unshaped)
            self._load.rejected_in([run for place, run in enumerate(self._again.runs) if place not in left])
        self._stage(worked, shaped, first_owner)
        since.staging += time.monotonic() - staging
        progress.staged += worked.records
        self._listener.progress(progress)

    def _tell_gone(self, records: Sequence[dict[str, Any]], rejects: list[Reject], worked: Worked) -> None:
        """Keep rejects; and those of before whose records say now that they are gone are none any more."""
        dead = worked.tombstones if self._again is None and self._table.write != "replace" else None
        if dead is not None:
            self._listener.gone(self._table.name, self._table.key, lambda: keys_of(dead, worked.family.key))
        if rejects:
            self._reject(rejects, worked)
            if dead is not None and (ended := ended_by(records, rejects, self._table.key)):
                self._listener.gone(self._table.name, self._table.key, lambda: ended)

    def _stage(self, worked: Worked, shaped: Shaped, first_owner: int) -> None:
        """Hand rows, and what they say of others, to the load."""
        self._load.stage(worked.family, worked.batches)
        if worked.tombstones is not None and self._table.write == "replace":
            self._since.count(self.progress, filtered=worked.tombstones.rows)
            self.progress.read -= worked.tombstones.rows
        elif worked.tombstones is not None:
            self._load.tombstones(worked.tombstones)
        if isinstance(shaped.kept, LoggedRecords):
            for column, rows in self._kept.places(worked, shaped.kept.logged, first_owner, self._shaper):
                self._load.stage_unchanged(column, rows)
        if worked.filtered and self._compare and worked.left is not None:
            self._load.gone(worked.left)

    def _track(
        self, tracker: CursorTracker, records: Sequence[dict[str, Any]], rejects: list[Reject]
    ) -> Sequence[dict[str, Any]]:
        progress, was_in_order = self.progress, tracker.in_order
        taken = tracker.take(records)
        rejects += taken.rejects
        self._since.count(progress, repeated=taken.repeated)
        progress.held_back += taken.held_back
        if was_in_order and not tracker.in_order:
            self._log(
                "warning",
                "cursor.not_sorted",
                "records do not come in the order that `sorted` promises; this run commits only at its end",
            )
        return taken.records

    def _reject(self, rejects: list[Reject], worked: Worked) -> None:
        """Keep them; where a complete read decides what has gone, those records have not."""
        self._listener.rejects(self._table.name, rejects)
        if self._compare:
            self._compare.retry(reject.record for reject in rejects)
        if (
            self._compare
            or self._reads_all
            or self._table.by_file
            or (self._complete and self._table.write in ("mirror", "history"))
        ):
            keys = rejected_keys(worked.family, self._shaper, self._table.key, [r.record for r in rejects])
            if keys is not None:
                self._load.mark_present(keys)
            if self._table.by_file and (keys is None or keys.rows < len(rejects)):
                unknown = [reject for reject in rejects if not has_key(reject.record, self._table.key)]
                self._load.mark_all_present({reject.file for reject in unknown or rejects})
            elif keys is None or keys.rows < len(rejects):
                self._load.mark_all_present()
                if self._compare:
                    self._compare.doubted = True
        require_few(self._order, self._table.name, self.progress.rejected, rejects)
