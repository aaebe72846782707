"""Rows of one table from the binary log, collected until they are worth a batch."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

import pyarrow as pa

from ...errors import SourceError
from ...records.change_records import ChangeRecords, Logged
from ..sql.changelog import LogPart
from ..sql.database import typed
from ..sql.tables import Column, Table
from . import binlog
from .binlog_rows import Reader, Unreadable, Value, reader_of, rows_of
from .types import column_of
from .values import to_column

# Types whose bytes in the log only the server understands, by the name in the catalog.
_OWN_BYTES = ("uuid", "inet4", "inet6", "vector", "geometry", "point", "linestring", "polygon", "multi", "geom")


class RowBuilder:
    """See the module.

    Args:
        as_column: how the feed wants a column; None for one that it leaves out.
    """

    def __init__(
        self, table: Table, key: Sequence[str], as_column: Callable[[Column], Column | None], zone: str, on: str
    ) -> None:
        self._table, self._key, self._as_column, self._zone, self._on = table, list(key), as_column, zone, on
        self._columns: list[Column | None] = []
        self._readers: list[Reader] = []
        self._mapped: binlog.MappedTable | None = None
        self._names: list[str] = []
        self._values: list[list[Value]] = []
        self._gone: list[bool] = []
        self._moved: set[int] = set()
        self._emptied = False
        self._bytes = 0

    @property
    def waiting(self) -> int:
        """How many rows wait."""
        return len(self._values)

    def structure(self, event: bytes) -> None:
        """The structure of the rows that follow; event: a table map."""
        _, self._mapped = binlog.table_of(event)
        self._names = [column.name for column in self._mapped.columns]
        self._columns, self._readers = [], []
        for column in self._mapped.columns:
            there = self._table.column(column.name)
            wanted = self._as_column(there or _guessed(column))
            if wanted is not None and there is not None and there.declared.startswith(_OWN_BYTES):
                raise self._unreadable(column.name, there.declared)
            self._columns.append(wanted)
            try:
                self._readers.append(reader_of(column))
            except Unreadable as error:
                raise self._unreadable(column.name, str(error)) from error

    def add(self, event: bytes) -> None:
        """The rows of an event."""
        assert self._mapped is not None
        places = [self._names.index(name) for name in self._key]
        for before, after in rows_of(event, self._mapped, self._readers):
            moved = before is not None and after is not None and any(before[p] != after[p] for p in places)
            if before is not None and (after is None or moved):
                self._values.append(before)
                self._gone.append(True)
            if after is not None:
                if moved:
                    self._moved.add(len(self._values))
                self._values.append(after)
                self._gone.append(False)
        self._bytes += len(event)

    def truncated(self) -> Iterator[LogPart]:
        """The table was truncated: earlier changes no longer matter."""
        yield from self.flush(None)
        self._emptied = True

    def flush(self, position: str | None) -> Iterator[LogPart]:
        """The waiting rows, as one part; position: how far the log is read once it is committed."""
        if not self._values and not self._emptied:
            return
        columns = list(zip(*self._values)) or [()] * len(self._columns)
        fields = [
            to_column(column, pa.array(values, pa.binary()), self._zone)
            for column, values in zip(self._columns, columns)
            if column is not None
        ]
        logged = Logged(self._gone, {}, frozenset(self._moved))
        yield LogPart(ChangeRecords(typed(fields, len(self._values)), logged, truncated=self._emptied), position, self._bytes)
        self._values, self._gone, self._moved, self._emptied, self._bytes = [], [], set(), False, 0

    def _unreadable(self, column: str, what: str) -> SourceError:
        return SourceError(
            "reading the change log of",
            self._on,
            found=f"{self._table.name}.{column} ({what}) is in an internal format of the server, which cannot be decoded",
            fix=f"leave it out (`exclude_columns: [{column}]`), or read the table's changes by cursor or compare",
            code="source.cdc_not_enabled",
        )


_GUESSED = {1: "tinyint", 2: "smallint", 3: "int", 8: "bigint", 9: "mediumint", 4: "float", 5: "double", 10: "date", 13: "year",
            17: "timestamp", 18: "datetime", 19: "time"}  # fmt: skip


def _guessed(column: binlog.BinlogColumn) -> Column:
    """Of a column that the table no longer has."""
    if column.code == 246:
        return column_of(column.name, f"decimal({column.meta[0]},{column.meta[1]})", True)
    declared = _GUESSED.get(column.code) or (
        "text" if column.encoding else "blob" if column.code in (15, 252, 253, 254) else "text"
    )
    return column_of(column.name, declared + (" unsigned" if column.unsigned else ""), True)
