"""Records of a table on their way from the reader into the load: tracked, compared, shaped, transformed and staged."""

from __future__ import annotations

import time
from collections.abc import Sequence
from typing import Any

from ...changes.cursor import CursorTracker
from ...records.change_records import ChangeRecords
from ...records.column_records import joined, same_form
from ...shaping.batch import Reject, ShapedBatch
from ...shaping.columns import ShapedColumns
from ...shaping.rejected_keys import has_key, rejected_keys
from ...shaping.shared_batch import SharedBatch
from ...sources.batching import RECORDS_PER_BATCH
from ...sources.chunk import Chunk, Origin
from .completion import require_few
from .deleted_records import ended_by, keys_of
from .reject_origins import misread, number_files, placed
from .table_read import TableRead


class TableStaging:
    """Stages the chunks of one read, one after another."""

    def __init__(self, read: TableRead) -> None:
        self._read = read
        self._task = read.task
        self._differing: list[Sequence[dict[str, Any]]] = []
        self._suspicious = False

    def take(self, chunk: Chunk) -> None:
        """Count, shape and stage the records of a chunk.

        Raises:
            ReedError: a record or the source's structure does not allow going on.
            RunCancelled: the run was cancelled.
        """
        read, task = self._read, self._task
        task.require_not_cancelled("reading")
        progress, since, records = task.progress, read.since, chunk.records
        progress.expected = chunk.total if progress.expected is None else progress.expected
        since.source_bytes += chunk.body_bytes
        since.count(progress, repeated=chunk.repeated)
        began = time.monotonic()
        rejects = [misread(found) for found in chunk.misfits]
        if read.aside is not None:
            read.aside.add(records)
        if read.tracker:
            records = self._track(read.tracker, records, rejects)
        elif read.replayed is not None and task.table.rule is not None and read.reader.tracker is not None:
            # Rejected again, as on the first read: accepting it would widen the column to text and break the cursor.
            rejects += read.reader.tracker.unreadable(records)
            read.replayed = read.replayed.without({reject.index for reject in rejects})
            records = read.replayed.records
        progress.read += len(records) + len(rejects)
        if read.compare:
            compared = read.compare.take(records)
            since.count(progress, unchanged=compared.unchanged)
            self._suspicious = self._suspicious or chunk.suspicious
            if self._differing and not same_form(self._differing[-1], compared.records):
                records, self._differing = joined(self._differing), []
                self._work(records, [], began, suspicious=self._suspicious)
            if compared.records:
                self._differing.append(compared.records)
            # A few of each page: shaped together, they cost a tenth.
            if sum(map(len, self._differing)) < RECORDS_PER_BATCH and not rejects:
                task.listener.progress(progress)
                return
            records, self._differing = joined(self._differing), []
        origins = chunk.origins if not read.compare else ()
        once = chunk.once if records is chunk.records else None
        self._work(records, rejects, began, suspicious=chunk.suspicious or self._suspicious, origins=origins, once=once)

    def stage_rest(self) -> None:
        """Shape and stage the records that were kept to be shaped together."""
        if self._differing:
            self._work(joined(self._differing), [], time.monotonic(), suspicious=self._suspicious)

    def _track(
        self, tracker: CursorTracker, records: Sequence[dict[str, Any]], rejects: list[Reject]
    ) -> Sequence[dict[str, Any]]:
        progress, was_in_order = self._task.progress, tracker.in_order
        taken = tracker.take(records)
        rejects += taken.rejects
        self._read.since.count(progress, repeated=taken.repeated)
        progress.held_back += taken.held_back
        if was_in_order and not tracker.in_order:
            words = "records are not in the order that `sorted` promises; this run commits only at its end"
            self._task.log("warning", "cursor.not_sorted", words)
        return taken.records

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
        """Shape and stage.

        Args:
            records: as they arrived.
            rejects: what could not even be read.
            began: when the chunk was taken; monotonic seconds.
            suspicious: values may be of other types than the structure says.
            origins: of the records, if they come from files.
            once: if other warehouses are given the same.
        """
        read, task = self._read, self._task
        progress, since = task.progress, read.since
        if isinstance(records, ChangeRecords) and records.truncated:
            task.log("info", "cdc.truncated", "the table was truncated at the source")
            read.load.truncated()
            task.listener.rows_deleted(task.table.name, task.table.key, None)
        first_owner = once.first_owner if once else read.next_owner
        if once:
            shaped = once.by(read.shaper, records, suspicious=suspicious)
        else:
            shaped = read.shaper.shape(records, first_owner, suspicious=suspicious)
        read.next_owner = first_owner + shaped.records
        read.log_structure_changes(shaped.changes)
        unshaped = [reject.index for reject in shaped.rejects]
        if task.table.by_file and shaped.batches:
            number_files(shaped.batches[0], origins, first_owner, unshaped)
        worked = read.columns.work(shaped, read.tombstone)
        rejects += placed(shaped.rejects, origins, ()) + placed(worked.rejects, origins, unshaped)
        progress.read -= worked.filtered
        since.count(progress, rejected=len(rejects), filtered=worked.filtered)
        self._tell_gone(records, rejects, worked)
        staging = time.monotonic()
        since.shaping += staging - began
        if read.replayed is not None:
            left = set(unshaped)
            read.load.rejected_in([run for place, run in enumerate(read.replayed.runs) if place not in left])
        self._stage(worked, shaped, first_owner)
        since.staging += time.monotonic() - staging
        progress.staged += worked.records
        task.listener.progress(progress)

    def _tell_gone(self, records: Sequence[dict[str, Any]], rejects: list[Reject], worked: ShapedColumns) -> None:
        """Keep rejects, and drop earlier ones whose records are now deleted."""
        task = self._task
        dead = worked.tombstones if not task.replays and task.table.write != "replace" else None
        if dead is not None:
            task.listener.rows_deleted(task.table.name, task.table.key, lambda: keys_of(dead, worked.family.key))
        if rejects:
            self._reject(rejects, worked)
            if dead is not None and (ended := ended_by(records, rejects, task.table.key)):
                task.listener.rows_deleted(task.table.name, task.table.key, lambda: ended)

    def _stage(self, worked: ShapedColumns, shaped: ShapedBatch, first_owner: int) -> None:
        """Hand rows, and what they say of others, to the load."""
        read, task = self._read, self._task
        read.load.stage(worked.family, worked.batches)
        if worked.tombstones is not None and task.table.write == "replace":
            read.since.count(task.progress, filtered=worked.tombstones.rows)
            task.progress.read -= worked.tombstones.rows
        elif worked.tombstones is not None:
            read.load.tombstones(worked.tombstones)
        if isinstance(shaped.kept, ChangeRecords):
            for column, rows in read.unchanged_values.places(worked, shaped.kept.logged, first_owner, read.shaper):
                read.load.stage_unchanged(column, rows)
        if worked.filtered and read.compare and worked.left is not None:
            read.load.delete_keys(worked.left)

    def _reject(self, rejects: list[Reject], worked: ShapedColumns) -> None:
        """Keep them; where a complete read decides what has gone, those records have not."""
        read, task = self._read, self._task
        task.listener.rejects(task.table.name, rejects)
        if read.compare:
            read.compare.retry(reject.record for reject in rejects)
        if (
            read.compare
            or read.reads_everything
            or task.table.by_file
            or (task.complete and task.table.write in ("mirror", "versions"))
        ):
            keys = rejected_keys(worked.family, read.shaper, task.table.key, [r.record for r in rejects])
            if keys is not None:
                read.load.mark_present(keys)
            if task.table.by_file and (keys is None or keys.rows < len(rejects)):
                unknown = [reject for reject in rejects if not has_key(reject.record, task.table.key)]
                read.load.mark_all_present({reject.file for reject in unknown or rejects})
            elif keys is None or keys.rows < len(rejects):
                read.load.mark_all_present()
                if read.compare:
                    read.compare.doubted = True
        require_few(task.order, task.table.name, task.progress.rejected, rejects)
