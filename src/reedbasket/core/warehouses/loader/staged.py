"""What one load has brought so far: in the stage or in shadow tables, and what it said of keys besides."""

from __future__ import annotations

from dataclasses import dataclass, field

from ...shaping.batch import TableBatch
from .stage import Stage
from .uniqueness import KeysMet


@dataclass
class Staged:
    """Until the next commit.

    Attributes:
        stage: the rows, where they are not built in shadow tables.
        keys: whether a key came twice.
        present: keys that the source does show, though their records could not be shaped.
        all_present: it shows records whose keys nobody could read: nothing has gone.
        present_files: the same, of the rows of these files alone.
        gone: keys that the source has no more.
        tombstones: records that say they are gone.
        unchanged: by column, staged rows that do not tell it because it did not change.
        rejected_in: of a replay, by the record's number in the load, the run that rejected it.
        emptied: the source emptied the table.
        overtaken: rows that were staged before it did.
    """

    stage: Stage
    keys: KeysMet = field(default_factory=KeysMet)
    present: list[TableBatch] = field(default_factory=list)
    all_present: bool = False
    present_files: set[int | None] = field(default_factory=set)
    gone: list[TableBatch] = field(default_factory=list)
    tombstones: list[TableBatch] = field(default_factory=list)
    unchanged: dict[str, list[TableBatch]] = field(default_factory=dict)
    rejected_in: list[int] = field(default_factory=list)
    emptied: bool = False
    overtaken: int = 0

    def emptied_now(self) -> None:
        """What was staged so far counts no more."""
        self.overtaken += sum(self.stage.rows.values()) + sum(keys.rows for keys in self.tombstones)
        self.stage.clear()
        self.tombstones, self.unchanged, self.emptied = [], {}, True

    def next(self) -> Staged:
        """For the next commit of the same load. What is said of all keys, and of rejects, is said of the whole load."""
        return Staged(
            self.stage,
            all_present=self.all_present,
            present_files=self.present_files,
            rejected_in=self.rejected_in,
        )
