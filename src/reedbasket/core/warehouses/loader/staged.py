"""What one load has brought so far, in the stage or in shadow tables, and what it knows about keys."""

from __future__ import annotations

from dataclasses import dataclass, field

from ...shaping.batch import TableBatch
from .stage import Stage
from .uniqueness import SeenKeys


@dataclass
class Staged:
    """What is staged until the next commit.

    Attributes:
        stage: the rows, if they are not built in shadow tables.
        keys: tells whether a key was repeated.
        present: keys that exist at the source although their records could not be shaped.
        all_present: records with unreadable keys exist, so nothing counts as deleted.
        present_files: the same, for rows of these files only.
        gone: keys that no longer exist at the source.
        tombstones: records that say they are deleted.
        unchanged: by column, staged rows without its value, because it did not change.
        rejected_in: for a replay, the run that rejected a record, by the record's number in the load.
        truncated: the source truncated the table.
        overtaken: rows that were staged before it did.
    """

    stage: Stage
    keys: SeenKeys = field(default_factory=SeenKeys)
    present: list[TableBatch] = field(default_factory=list)
    all_present: bool = False
    present_files: set[int | None] = field(default_factory=set)
    gone: list[TableBatch] = field(default_factory=list)
    tombstones: list[TableBatch] = field(default_factory=list)
    unchanged: dict[str, list[TableBatch]] = field(default_factory=dict)
    rejected_in: list[int] = field(default_factory=list)
    truncated: bool = False
    overtaken: int = 0

    def truncate_stage(self) -> None:
        """Drop everything staged so far."""
        self.overtaken += sum(self.stage.rows.values()) + sum(keys.rows for keys in self.tombstones)
        self.stage.clear()
        self.tombstones, self.unchanged, self.truncated = [], {}, True

    def next(self) -> Staged:
        """The next commit's, for the same load. What is known of keys and of rejects is known for the whole load."""
        return Staged(
            self.stage,
            all_present=self.all_present,
            present_files=self.present_files,
            rejected_in=self.rejected_in,
        )
