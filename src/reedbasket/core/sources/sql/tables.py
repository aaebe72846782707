"""What a database contains, described in the same way for every kind of database, and the statements sent to it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

from ...records.column_types import Kind

What = Literal["table", "view", "query"]


@dataclass(frozen=True)
class Column:
    """One column.

    Attributes:
        declared: its type as the database writes it.
        kind: its type in the warehouse; None if only the values tell.
        select: the SQL expression that reads it, over the column's quoted name.
        whole, fraction: for decimals, digits before and after the point; -1 if the type does not say.
        generated: the database computes it from other columns of the row.
        filled: if the column is new, whether existing rows were given a value for it.
        altered: changes whenever the column's definition does; '' if the database does not tell.
        number: stays the same when the column is renamed; 0 if the database has no such number.
    """

    name: str
    declared: str
    kind: Kind | None
    select: str
    nullable: bool = True
    whole: int = -1
    fraction: int = -1
    generated: bool = False
    filled: Literal["", "yes", "if rewritten"] = ""
    altered: str = ""
    number: int = 0


@dataclass(frozen=True)
class Table:
    """One table, view or query.

    Attributes:
        schema: '' if the database has none.
        rows: the database's estimate.
        indexed: columns that an index begins with.
        versioned: the database keeps a version of each row.
        readable: whether we may read it.
        place: where each row is stored, as a column that can be read in ranges; None if the database cannot go to a place directly.
        rewritten: changes whenever the whole table is rewritten; '' if the database does not tell.
    """

    schema: str
    name: str
    what: What
    columns: tuple[Column, ...]
    key: tuple[str, ...] = ()
    rows: int | None = None
    indexed: frozenset[str] = frozenset()
    description: str = ""
    versioned: bool = False
    readable: bool = True
    place: Column | None = None
    rewritten: str = ""

    def column(self, name: str) -> Column | None:
        """The column of that name; None if there is none."""
        return next((column for column in self.columns if column.name == name), None)


@dataclass(frozen=True)
class Statement:
    """A SELECT.

    Attributes:
        values: of the names that it contains as `:name`; bound, never pasted.
        columns: what it returns, in order.
        table: the one that it reads, as it is named in it; '' for a view, a user's query, or what cannot be rewritten in the meantime.
    """

    text: str
    columns: tuple[Column, ...]
    values: Mapping[str, Any] = field(default_factory=dict)
    table: str = ""
