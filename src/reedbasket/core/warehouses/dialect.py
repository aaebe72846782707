"""How an engine writes names, types, values and conditions in its SQL."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from datetime import datetime

from ..records.column_types import Kind
from ..records.structure import ColumnShape


class Dialect(ABC):
    """Pieces of SQL as text; nothing is executed. The defaults are standard SQL."""

    # What tells rows of a table apart, in the order in which they came.
    row_id = "_rowid_"
    # The order in which rows came into a stage `s`.
    arrival = "s._rb_owner"
    # Types in the service tables: of bytes, and of text that may be part of a key.
    blob = "blob"
    key_text = "text"
    # {our kind: the type that a column of it is declared as}
    types: Mapping[Kind, str]

    def quote(self, name: str) -> str:
        """The name of a table or column as SQL, whatever characters it contains."""
        return '"' + name.replace('"', '""') + '"'

    @abstractmethod
    def table(self, name: str) -> str:
        """A warehouse table as SQL, with its schema.

        Args:
            name: not quoted.
        """

    def declared(self, column: ColumnShape) -> str:
        """A column's type, as `columns` returns it."""
        return self.types[column.kind]

    def column_sql(self, column: ColumnShape) -> str:
        """A column's name and type, as `create table` has them."""
        return f"{self.quote(column.name)} {self.declared(column)}"

    def kind_of(self, declared: str) -> Kind | None:
        """The type of values that a declared type holds; None for a type that the loader does not create."""
        return next((kind for kind, name in self.types.items() if name == declared), None)

    @abstractmethod
    def time(self, moment: datetime) -> str:
        """An instant as an SQL constant."""

    def text_of(self, expression: str) -> str:
        """SQL for an expression's value as text."""
        return f"cast({expression} as text)"

    def concatenated(self, *expressions: str) -> str:
        """SQL for several texts joined; null if one of them is null."""
        return " || ".join(expressions)

    def sortable(self, expression: str, kind: Kind) -> str:
        """SQL for text that sorts by code point, whatever the database's language."""
        return expression

    def highest_first(self, expression: str, kind: Kind) -> str:
        """An SQL ordering: the highest value first, nulls last."""
        return f"{self.sortable(expression, kind)} desc nulls last"

    def differs(self, columns: Sequence[str], left: str, right: str) -> str:
        """An SQL condition: some of the columns differ between two aliases; two nulls are equal."""
        return f"({self.listed(columns, left)}) is distinct from ({self.listed(columns, right)})"

    def is_other(self, left: str, right: str) -> str:
        """An SQL condition: two values differ; two nulls are equal."""
        return f"{left} is distinct from {right}"

    def listed(self, names: Sequence[str], alias: str = "") -> str:
        """Column names as a list in SQL.

        Args:
            names: not quoted.
            alias: prefix of each; '' for none.
        """
        before = f"{alias}." if alias else ""
        return ", ".join(before + self.quote(name) for name in names)

    def matching(self, names: Sequence[str], left: str, right: str) -> str:
        """An SQL condition: all of the columns are equal in two aliases; a null equals nothing."""
        return " and ".join(f"{left}.{self.quote(n)} = {right}.{self.quote(n)}" for n in names)

    def bare(self, expression: str) -> str:
        """SQL for a value to look up in a stage's index."""
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
