"""How an engine writes names, types, values and conditions in its own SQL."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from datetime import datetime

from ..records.column_types import Kind
from ..records.structure import ColumnShape


class Dialect(ABC):
    """Gives pieces of SQL as text; runs none. What is here is as the SQL standard has it."""

    # What tells rows of a table apart, in the order in which they came.
    row_id = "_rowid_"
    # The order in which rows came into a stage `s`.
    arrival = "s._rb_owner"
    # The type of bytes in the service tables.
    blob = "blob"
    # {our kind: the type that a column of it is declared as}
    types: Mapping[Kind, str]

    def quote(self, name: str) -> str:
        """A name of a table or column as SQL, whatever letters it holds."""
        return '"' + name.replace('"', '""') + '"'

    @abstractmethod
    def table(self, name: str) -> str:
        """A warehouse table as SQL, with its schema.

        Args:
            name: plain.
        """

    def declared(self, column: ColumnShape) -> str:
        """The column's type, as `columns` shows it."""
        return self.types[column.kind]

    def kind_of(self, declared: str) -> Kind | None:
        """Our kind of a declared type; None for a type that we do not make."""
        return next((kind for kind, name in self.types.items() if name == declared), None)

    @abstractmethod
    def time(self, moment: datetime) -> str:
        """An instant as an SQL constant."""

    def text_of(self, expression: str) -> str:
        """An expression's value as text, as SQL."""
        return f"cast({expression} as text)"

    def concatenated(self, *expressions: str) -> str:
        """Texts one after the other, as SQL; null where one is."""
        return " || ".join(expressions)

    def sortable(self, expression: str, kind: Kind) -> str:
        """Text by its code points, whatever the database's language."""
        return expression

    def highest_first(self, expression: str, kind: Kind) -> str:
        """An order, as SQL: the highest value first, nulls last."""
        return f"{self.sortable(expression, kind)} desc nulls last"

    def differs(self, columns: Sequence[str], left: str, right: str) -> str:
        """SQL that is true where any of the columns differ between two aliases; null equals null."""
        return f"({self.listed(columns, left)}) is distinct from ({self.listed(columns, right)})"

    def listed(self, names: Sequence[str], alias: str = "") -> str:
        """Column names as a list in SQL.

        Args:
            names: plain.
            alias: put before each; '' for none.
        """
        before = f"{alias}." if alias else ""
        return ", ".join(before + self.quote(name) for name in names)

    def matching(self, names: Sequence[str], left: str, right: str) -> str:
        """SQL that is true where all of the columns are equal in two aliases; null equals nothing."""
        return " and ".join(f"{left}.{self.quote(n)} = {right}.{self.quote(n)}" for n in names)

    def bare(self, expression: str) -> str:
        """A value to look up in an index of a stage."""
        return expression

    def looked_up(self, names: Sequence[str], outer: str, stage: str) -> str:
        """SQL that finds the rows of a stage with the key of an outer row, by the stage's index.

        Args:
            names: the key's columns.
            outer: alias of the outer row.
            stage: alias of the stage.
        """
        pairs = ((self.quote(n), self.bare(f"{outer}.{self.quote(n)}")) for n in names)
        return " and ".join(f"{stage}.{name} = {value}" for name, value in pairs)
