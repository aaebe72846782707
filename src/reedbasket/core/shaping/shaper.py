"""Shaping records into columns, batch after batch, with a structure that grows."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any, Literal

import pyarrow as pa

from ..errors import DriftFailed
from ..records.column_records import ColumnRecords
from ..records.layout import Family, layout_of
from ..records.structure import ColumnShape, TableShape
from .batch import Reject, ShapedBatch
from .fast_path import ExpectedColumns, expected, shape_columns
from .learning import LearningBatch
from .rules import Change, ShapeRules
from .typed_columns import TypedWalk, is_typed
from .walk import Walk


@dataclass(frozen=True)
class LearnedStructure:
    """Everything a shaper has learned. A shaper that adopts it shapes what follows in the same way."""

    standing: Any
    structure: TableShape
    left_out: frozenset[str]
    told: frozenset[Change]
    seen: frozenset[tuple[str, str]]
    expected_columns: ExpectedColumns | None


class Shaper:
    """Shapes one table's records. `structure` grows with what is learned; a batch that fails teaches nothing.

    Args:
        key: the source's key fields, or empty.
        link: what children refer to, the parent's 'key' or its 'row'.
        expected: the structure was loaded before, so differences are drift, to which the rules apply.
        by_file: see layout.Family.
    """

    def __init__(
        self,
        structure: TableShape,
        key: Sequence[str],
        link: Literal["key", "row"],
        rules: ShapeRules | None = None,
        *,
        newest_by: str | None = None,
        expected: bool = False,
        by_file: bool = False,
    ) -> None:
        self.by_file = by_file
        self.structure = structure
        self.rules = rules or ShapeRules()
        self.left_out: set[str] = set()
        self._key = list(key)
        self._link: Literal["key", "row"] = link
        self._newest_by = newest_by
        self.expected = expected
        self._expected = {table.name for table in structure.family()} if expected else set()
        self._told: set[Change] = set()
        self._seen: set[tuple[str, str]] = set()
        # What records may be read as from now on; None before the first of them was walked.
        self.expected_columns: ExpectedColumns | None = None
        self._standing: Any = None

    @property
    def standing(self) -> Any:
        """Equal for shapers that shape the same records in the same way: they began with the same structure, and have seen the same
        records.
        """
        if self._standing is None:
            begun = (self._key, self._link, self._newest_by, self.by_file, self.expected, self.rules)
            self._standing = (begun, self.structure.to_data(), sorted(self.left_out))
        return self._standing

    def learned(self) -> LearnedStructure:
        """What it has learned, for another shaper that is given the same records."""
        told, seen = frozenset(self._told), frozenset(self._seen)
        return LearnedStructure(
            self.standing, self.structure.copy(), frozenset(self.left_out), told, seen, self.expected_columns
        )

    def adopt(self, learned: LearnedStructure) -> None:
        """Adopt what another shaper has learned from the same records."""
        self._standing = learned.standing
        self.structure, self.expected_columns = learned.structure.copy(), learned.expected_columns
        self.left_out, self._told, self._seen = set(learned.left_out), set(learned.told), set(learned.seen)

    def exclude_columns(self, names: Iterable[str]) -> None:
        """Fields that are not even requested from the source."""
        for name in names:
            self.structure.root.fields.setdefault(name, None)
            node = self.structure.root.fields[name]
            if isinstance(node, ColumnShape):
                node.left_out = True
            self.left_out.add(name)

    @property
    def family(self) -> Family:
        """The table and its children, as they are now."""
        return layout_of(self.structure, self._key, self._newest_by, self._link, by_file=self.by_file)

    def shape(self, records: Sequence[dict[str, Any]], first_owner: int, *, suspicious: bool = False) -> ShapedBatch:
        """The records as batches. Those that do not fit become rejects, and the rest is shaped without them.

        Raises:
            DriftFailed: the rules say to fail; nothing of the batch has been passed on.
        """
        self._standing = object()
        expected_columns = self.expected_columns
        if (
            isinstance(records, ColumnRecords)
            and expected_columns
            and records.columns.schema.equals(pa.schema(expected_columns.record))
        ):
            done = shape_columns(self.structure, self._key, records.columns, first_owner, self._seen)
            if done is not None:
                self._seen |= done[1]
                return ShapedBatch(self.family, done[0], [], len(records), [], records)
        if isinstance(records, ColumnRecords) and is_typed(records):
            return self._typed(records, first_owner)
        kept = list(enumerate(records))
        rejects: list[Reject] = []
        rows = records if isinstance(records, list) else list(records)
        while True:
            work = Walk(self.structure.copy(), self._key, self._link, self.rules, self._expected, rows, first_owner, suspicious)
            work.run()
            if not work.bad:
                break
            for number, (misfit, path) in sorted(work.bad.items()):
                index, record = kept[number]
                rejects.append(Reject(index, misfit.code, misfit.message, path, record))
            kept = [pair for number, pair in enumerate(kept) if number not in work.bad]
            rows = [record for _, record in kept]
        changes = self._learned(work)
        self.expected_columns = expected(self.structure, self._key, self._link, self.rules, self.left_out)
        return ShapedBatch(self.family, work.batches, rejects, len(rows), changes, rows)

    def _typed(self, records: ColumnRecords, first_owner: int) -> ShapedBatch:
        work = TypedWalk(self.structure.copy(), self._key, self.rules, self._expected)
        work.run(records, first_owner)
        rejects = [
            Reject(index, misfit.code, misfit.message, path, records[index])
            for index, (misfit, path) in sorted(work.bad.items())
        ]
        if rejects:
            records = records.filter([index not in work.bad for index in range(len(records))])
            work = TypedWalk(self.structure.copy(), self._key, self.rules, self._expected)
            work.run(records, first_owner)
        changes = self._learned(work)
        return ShapedBatch(self.family, [work.batch], rejects, len(records), changes, records)

    def _learned(self, work: LearningBatch) -> list[Change]:
        """What a walk came to, taken over; what of it is news."""
        if work.stopped:
            raise _stopped(self.structure.name, work.stopped)
        self.structure = work.structure
        self.left_out |= work.left_out
        self._seen |= work.seen
        changes = [change for change in work.changes if change not in self._told]
        self._told.update(changes)
        return changes

    def compare_with_expected(self) -> list[Change]:
        """At the end of a run with records: columns that every earlier record had and now none has, and columns that have come back.
        Columns that are missing now and then are not reported.

        Raises:
            DriftFailed: the rules say to fail.
        """
        changes = []
        for table in self.structure.family():
            columns = table.columns()
            if not any((table.name, column.name) in self._seen for column in columns):
                continue
            for column in columns:
                seen = (table.name, column.name) in self._seen
                if seen and column.gone:
                    column.gone = False
                    changes.append(Change("returned", table.name, column.name, "", column.kind))
                elif not seen and not column.gone and not column.optional and not column.left_out:
                    column.gone = True
                    changes.append(Change("vanished", table.name, column.name, "", column.kind))
        vanished = [change for change in changes if change.what == "vanished"]
        if vanished and self.expected and self.rules.drift.missing_column == "fail":
            raise _stopped(self.structure.name, vanished)
        return changes if self.expected else []


def _stopped(table: str, changes: list[Change]) -> DriftFailed:
    ways = {
        "table": "new_table: load",
        "column": "new_column: load",
        "type": "changed_type: widen",
        "vanished": "missing_column: keep",
    }
    policies = sorted({ways[change.what] for change in changes})
    return DriftFailed(
        "shaping the records of",
        table,
        found="; ".join(change.words for change in changes),
        fix="say `on_drift: {" + ", ".join(policies) + "}` in the feed, or fix the source",
        details=[vars(change) for change in changes],
    )
