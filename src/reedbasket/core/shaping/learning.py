"""What all walks over records share: a structure that grows, and the feed's rules for that."""

from __future__ import annotations

from collections.abc import Container

from ..records.column_types import Kind
from ..records.names import claim
from ..records.structure import ColumnShape, TableShape
from .rules import Change, ShapeRules


class LearningBatch:
    """What one batch teaches.

    Attributes:
        changes: what is new.
        stopped: changes at which the rules say to fail.
        seen: the columns that occurred, (table, column).
    """

    def __init__(self, structure: TableShape, key: list[str], rules: ShapeRules, expected: Container[str]) -> None:
        """Begin a batch.

        Args:
            expected: the tables that were loaded before.
        """
        self.structure = structure
        self.key = key
        self.rules = rules
        self.changes: list[Change] = []
        self.stopped: list[Change] = []
        self.left_out: set[str] = set()
        self.seen: set[tuple[str, str]] = set()
        self._expected = expected

    def new_column(self, table: TableShape, path: tuple[str, ...], kind: Kind) -> ColumnShape | None:
        """A new column; None if the rules leave it out."""
        name = claim("_".join(path), table.taken, "\0".join(path))
        if not self.may(Change("column", table.name, name, ".".join(path), kind), self.rules.drift.new_column):
            return None
        table.taken.add(name)
        return ColumnShape(name, kind)

    def may(self, change: Change, policy: str) -> bool:
        """Whether the structure changes. The change is noted either way; a first load has nothing to drift from."""
        if not self.drifts(change.table, change.what) or policy == "load" or self._is_key(change):
            self.changes.append(change)
            return True
        if policy == "fail":
            self.stopped.append(change)
            return True
        self.changes.append(Change(**{**vars(change), "ignored": True}))
        self.left_out.add(change.field)
        return False

    def drifts(self, table: str, what: str) -> bool:
        """Whether this is drift: only what was loaded before can drift, and a new table's columns are part of the new table."""
        return table in self._expected or (what == "table" and self.structure.name in self._expected)

    def type_change(self, node: ColumnShape, field: str, now: Kind) -> Change:
        """A column whose type changes."""
        return Change("type", self.structure.name, node.name, field, now, node.kind)

    def _is_key(self, change: Change) -> bool:
        return change.what != "type" and change.table == self.structure.name and change.field in self.key
