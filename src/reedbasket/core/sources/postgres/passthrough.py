"""A statement's rows as bytes of binary COPY, each value made the warehouse's own type by SQL."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from typing import TYPE_CHECKING, Any

import pyarrow as pa

from ..requests_seen import RequestSeen
from ..sql.database import field_of, typed
from ..sql.tables import Column, Statement
from .columns import ARROW_TYPES

if TYPE_CHECKING:
    from .database import PostgresSource


def can_pass_through(columns: Sequence[Column]) -> bool:
    """Whether every column's type is known without its values."""
    return bool(columns) and all(column.kind != "decimal" or column.fraction >= 0 for column in columns)


class PostgresPassthrough:
    """See run.pass_through.Straight."""

    def __init__(self, source: PostgresSource, statement: Statement, seen: Callable[[RequestSeen], None]) -> None:
        self._source = source
        self._statement = statement
        self._seen = seen
        self.empty = typed([_empty(column) for column in statement.columns], 0)

    def rows(self, declared: Sequence[tuple[str, str]]) -> Iterator[tuple[bytes, int]]:
        began, size, problem = time.monotonic(), 0, ""
        columns = {column.name: column for column in self._statement.columns}
        made = ", ".join(_expression(columns[name], self._source.quote(name), kind) for name, kind in declared)
        # What is selected is told anew; from where, and which rows, stays.
        text = f"select {made}\n{self._statement.text[self._statement.text.index('from ') :]}"
        try:
            for part, rows in self._source.copy_out(text, len(declared), dict(self._statement.values)):
                size += len(part)
                yield part, rows
            self._source.require_as_seen(self._statement.table)
        except Exception as error:
            problem = getattr(error, "found", str(error))
            raise
        finally:
            self._seen(RequestSeen("SQL", text, None, time.monotonic() - began, size, 1, 0.0, problem))


def _empty(column: Column) -> tuple[pa.Field, pa.Array]:
    assert column.kind is not None
    if column.kind == "decimal":
        digits = pa.decimal128(max(column.whole + column.fraction, 1), column.fraction)
        return field_of(column, "decimal", pa.array([], digits), column.whole, column.fraction)
    return field_of(column, column.kind, pa.array([], ARROW_TYPES[column.kind]))


def _expression(column: Column, name: str, declared: str) -> str:
    """Of kinds that other lanes read as text the text is left out: the warehouse has the same type."""
    select: Any = column.select
    if column.kind in ("decimal", "uuid", "json"):
        select = select.removesuffix("::text").removesuffix("::numeric")
    return f"({select.replace('{}', name)})::{declared}"
