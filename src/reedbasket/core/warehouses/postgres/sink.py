"""Rows as bytes of binary COPY, into a table that is being built."""

from __future__ import annotations

from collections.abc import Iterator, MutableMapping, Sequence

from ...records.layout import TableLayout
from .connect import translated
from .copying import copy_bytes
from .engine import PostgresEngine

# What the other lanes reject, as a condition over a column.
_MISFITS = {
    "date": "{0} < '0001-01-01' or {0} > '9999-12-31'",
    "timestamp": "{0} < '0001-01-01 00:00:00+00' or {0} > '9999-12-31 23:59:59.999999+00'",
    "decimal": "{0} = 'NaN' or {0} = 'Infinity' or {0} = '-Infinity'",
}


class PostgresSink:
    """See run.pass_through.Sink. On a connection of its own: nobody sees the table before the load's commit gives it its name."""

    def __init__(self, engine: PostgresEngine, name: str, layout: TableLayout, read: MutableMapping[str, int]) -> None:
        self._engine = engine
        self._table = engine.table(name)
        self._layout = layout
        self._read = read
        self.declared = {column.name: engine.declared(column) for column in layout.columns}

    def write(self, parts: Iterator[bytes], columns: Sequence[str]) -> int:
        address = self._engine.address
        with translated("copying rows into", address):
            rows = copy_bytes(address, self._table, columns, parts)
        self._read[self._layout.name] += rows
        return rows

    def has_misfits(self) -> bool:
        engine = self._engine
        tests = [_MISFITS[c.kind].format(engine.quote(c.name)) for c in self._layout.columns if c.kind in _MISFITS]
        if not tests:
            return False
        with engine.translated("looking through rows in"):
            return bool(engine.query(f"select 1 from {self._table} where {' or '.join(tests)} limit 1"))

    def empty(self) -> None:
        with self._engine.translated("emptying a table in"):
            self._engine.run(f"truncate {self._table}")
        self._read[self._layout.name] = 0
