"""What a feed says about one table's shape: which columns, how they are nested, and what to do if the source's structure drifts.

Names are those of warehouse columns before renaming; a child table's are prefixed with its own name, `passengers.email`.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, Literal

from ..records.column_types import Kind

Policy = Literal["load", "ignore", "fail"]
TypePolicy = Literal["widen", "reject", "fail"]


@dataclass(frozen=True)
class DriftPolicy:
    """What to do if a source's structure differs from the expected one."""

    new_table: Policy = "load"
    new_column: Policy = "load"
    missing_column: Literal["keep", "fail"] = "keep"
    changed_type: TypePolicy = "widen"


@dataclass(frozen=True)
class ShapeRules:
    """The rules, in the order in which they are applied."""

    only: frozenset[str] | None = None
    exclude_columns: frozenset[str] = frozenset()
    rename: dict[str, str] = field(default_factory=dict)
    cast: dict[str, Kind] = field(default_factory=dict)
    compute: dict[str, str] = field(default_factory=dict)
    hash: frozenset[str] = frozenset()
    keep: str | None = None
    constants: dict[str, Any] = field(default_factory=dict)
    objects: Literal["columns", "json"] = "columns"
    lists: Literal["child_tables", "json"] = "child_tables"
    drift: DriftPolicy = DriftPolicy()

    def skips(self, within: str, name: str) -> bool:
        """Whether the feed leaves a column out."""
        return dotted(within, name) in self.exclude_columns

    def names(self, within: str, name: str) -> bool:
        """Whether `include_columns` names it."""
        return self.only is None or dotted(within, name) in self.only

    def includes_nested(self, within: str, name: str, mark: str) -> bool:
        """Whether `include_columns` names something inside an object (mark '_') or a child table (mark '.')."""
        inside = dotted(within, name) + mark
        return self.only is not None and any(entry.startswith(inside) for entry in self.only)

    @property
    def has_row_rules(self) -> bool:
        """Whether there is anything to do once columns are finished."""
        return bool(self.rename or self.compute or self.hash or self.keep or self.constants)


def dotted(within: str, name: str) -> str:
    """A column's name in rules; within: the child table's name in its family, '' for the first table."""
    return f"{within}.{name}" if within else name


@dataclass(frozen=True)
class Change:
    """A change of a structure.

    Attributes:
        what: table, column, type, vanished, returned.
        ignored: the feed's own rule leaves it out.
    """

    what: Literal["table", "column", "type", "vanished", "returned"]
    table: str
    column: str
    field: str
    kind: str
    before: str = ""
    ignored: bool = False

    @property
    def words(self) -> str:
        """The change, as the log says it."""
        where = f"column {self.table}.{self.column}"
        if self.what == "table":
            words = f"new table {self.table}, from {self.field}"
        elif self.what == "column":
            words = f"new {where} ({self.kind}), from the field {self.field}"
        elif self.what == "type":
            words = f"{where} widened from {self.before} to {self.kind}"
        elif self.what == "vanished":
            words = f"no record has {where} any more; it stays, and is null from now on"
        else:
            words = f"{where} has come back"
        if not self.ignored:
            return words
        return f"{words}: left out, as `on_drift: {{new_{self.what}: ignore}}` says"
