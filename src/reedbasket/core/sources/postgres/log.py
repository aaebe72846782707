"""PostgreSQL's change log, decoded by the built-in output plugin: read once for all tables, and kept by table on disk.

The slot is only peeked at; `confirm` alone moves it on. A transaction arrives as a whole, in the order of commits. A table that was read
in a snapshot skips the transactions which that snapshot saw.
"""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing, contextmanager
from dataclasses import dataclass, replace
from tempfile import TemporaryFile
from typing import IO, TYPE_CHECKING, Any

import numpy as np
import psycopg
import pyarrow as pa
from psycopg import sql
from typing_extensions import override

from ...records.change_records import ChangeRecords
from ..sql.changelog import CdcPositionLost, ChangeLog, Lag, LogName, LogPart
from ..sql.database import typed
from ..sql.slices import bytes_of
from ..sql.tables import Column, Table
from . import slot
from .logged_values import to_column
from .pgoutput import Begun, Rows, TableDecoder, kinds_of, tables_of

if TYPE_CHECKING:
    from .database import PostgresSource

_PEEK = """select data from pg_logical_slot_peek_binary_changes({slot}, {until}::pg_lsn, null,
    'proto_version', '1', 'publication_names', {publication})"""
# A table of which nothing came is moved on with the others, or once this much of other tables' log has gone by.
_MOVE_BYTES = 1024 * 1024
_SPOOLED = pa.schema([("data", pa.binary()), ("lsn", pa.int64()), ("xid", pa.int64())])
_WAIT_SECONDS = 10
_YEAR_2000 = 946_684_800


@dataclass(frozen=True)
class LogPosition:
    """Transactions committed at `lsn` or later have not been loaded.

    Attributes:
        seen: for a table read in a snapshot, the transactions that the snapshot saw.
        until: all transactions committed there or later are not among them.
    """

    lsn: int
    until: int = 0
    seen: str = ""

    def __str__(self) -> str:
        return _lsn(self.lsn) + (f" without {self.seen} up to {_lsn(self.until)}" if self.seen else "")

    @classmethod
    def parse(cls, text: str) -> LogPosition:
        """A saved position."""
        found = re.fullmatch(r"(\S+)(?: without (\S+) up to (\S+))?", text)
        assert found is not None
        return cls(_number(found[1]), _number(found[3]) if found[3] else 0, found[2] or "")

    def at(self, lsn: int) -> LogPosition:
        """The same, moved on to a position in the log."""
        return replace(self, lsn=max(lsn, self.lsn)) if self.seen and lsn < self.until else LogPosition(max(lsn, self.lsn))

    def taken(self, lsn: Any, xid: Any) -> Any:
        """Which transactions are loaded already."""
        before = lsn < self.lsn
        if not self.seen:
            return before
        _, high, running = self.seen.split(":")
        newest = int(high)
        # 32 bits, made 64 by how far they are from the newest.
        distance = (xid - newest) & 0xFFFFFFFF
        whole = newest + np.where(distance >= 1 << 31, distance - (1 << 32), distance)
        seen = whole < newest
        for number in filter(None, running.split(",")):
            seen &= whole != int(number)
        return before | seen


class _Spool:
    """One table's messages, on disk."""

    def __init__(self) -> None:
        self._file: IO[bytes] = TemporaryFile()  # noqa: SIM115 (closed with the log)
        self._writer = pa.ipc.new_stream(self._file, _SPOOLED)
        self.rows = 0

    def add(self, batch: pa.RecordBatch) -> None:
        self._writer.write_batch(batch)
        self.rows += batch.num_rows

    def batches(self) -> Iterator[pa.RecordBatch]:
        self._writer.close()
        self._file.seek(0)
        with pa.ipc.open_stream(self._file) as reader:
            yield from reader

    def close(self) -> None:
        self._file.close()


class PostgresLog(ChangeLog):
    """See ChangeLog."""

    def __init__(self, source: PostgresSource, name: LogName, utc: bool) -> None:
        self._source = source
        self._name, self._publication = name.slot, name.publication
        self._utc = utc
        self._on = f"{source.address}, slot {name.slot}"
        self._state: slot.SlotState | None = None
        self._spools: dict[int, _Spool] | None = None
        self._until = self._reached = 0
        self._begun = Begun()
        self._behind: tuple[int, float] | None = None
        self._oids: dict[tuple[str, str], int] = {}

    @override
    def prepare(self, tables: Sequence[Table]) -> str | None:
        with self._connected("opening the change log of") as connection:
            slot.require_logical(connection, str(self._source.address))
            slot.require_published(connection, str(self._source.address), self._publication, tables)
            self._state = slot.state_of(connection, self._name)
            made = None
            if self._state is None:
                slot.create(connection, str(self._source.address), self._name)
                made = f"created the slot {self._name}, which keeps the log from here on"
            # A worker that was killed holds the slot, or is still making it, until its server process has noticed.
            self._state = slot.wait_until_free(connection, str(self._source.address), self._name, _WAIT_SECONDS)
            if self._state.confirmed > self._source.opened_at:
                # It may have been made since the snapshot was; what is read from now on has to have seen all that it will not tell.
                slot.let_commits_show(connection)
                self._source.renew()
            for table in tables:
                row = connection.execute("select %s::regclass::oid::int8", (self._source.quoted(table),)).fetchone()
                assert row is not None
                self._oids[table.schema, table.name] = row[0]
            return made

    @override
    def look(self, tables: Sequence[Table], saved: str | None) -> None:
        with self._connected("opening the change log of") as connection:
            slot.require_logical(connection, self._on)
            slot.require_published(connection, self._on, self._publication, tables)
            self._state = slot.state_of(connection, self._name)
        if saved:
            self.require(saved)

    @override
    def here(self) -> str:
        assert self._state is not None
        seen, until = self._source.seen()
        return str(LogPosition(self._state.confirmed, until, seen))

    @override
    def require(self, saved: str) -> None:
        state = self._state
        found = ""
        if state is None:
            found = f"the slot {self._name}, which kept it, no longer exists"
        elif state.lost:
            found = "the server has discarded log that the slot still needed (see max_slot_wal_keep_size)"
        elif state.confirmed > LogPosition.parse(saved).lsn:
            found = (
                f"the slot is at {_lsn(state.confirmed)}, after {saved}, where the last run ended: it was recreated, or "
                "somebody else read from it"
            )
        if found:
            drop = f"`{slot.drop_statement(self._name)}`, then " if state is not None and state.lost else ""
            raise CdcPositionLost(
                "continuing the change log of", self._on, found=found,
                fix=f"{drop}`reed run FEED --allow-loss` reads its tables in full again and continues from there",
            )  # fmt: skip

    @override
    def parts(
        self, table: Table, key: Sequence[str], saved: str, as_column: Callable[[Column], Column | None]
    ) -> Iterator[LogPart]:
        position, spool = LogPosition.parse(saved), self._read().get(self._oids[table.schema, table.name])
        if spool is None or not spool.rows:
            return
        columns: dict[tuple[str, int, int], Column | None] = {}
        wanted: dict[str, bool] = {}

        def is_followed(name: str) -> bool:
            if name not in wanted:
                wanted[name] = as_column(Column(name, "", "text", "{}")) is not None
            return wanted[name]

        decoder = TableDecoder(is_followed, key)
        held: LogPart | None = None
        last = 0
        for batch in spool.batches():
            lsn, xid = np.asarray(batch.column("lsn")), np.asarray(batch.column("xid"))
            if held is not None and int(lsn[0]) != last:
                held = replace(held, position=str(position.at(last + 1)))
            last = int(lsn[-1])
            # What tells of the table itself is needed in any case.
            skipped = position.taken(lsn, xid) & (_kinds(batch) != ord("R"))
            messages = batch.column("data")
            messages = messages.filter(pa.array(~skipped)) if skipped.any() else messages
            for rows in decoder.rows(messages):
                if held is not None:
                    yield held
                held = LogPart(self._records(rows, columns, as_column), None, messages.nbytes)
        if held is not None:
            yield replace(held, position=self.after(saved))

    @override
    def after(self, saved: str) -> str:
        return str(LogPosition.parse(saved).at(self._reached))

    @override
    def has_changes(self) -> bool:
        self._read()
        assert self._state is not None
        moved = self._reached - self._state.confirmed
        return any(spool.rows for spool in (self._spools or {}).values()) or moved >= _MOVE_BYTES

    @override
    def lag(self) -> Lag | None:
        if self._behind is None:
            return None
        size, now = self._behind
        oldest = self._begun.oldest
        seconds = None if oldest is None else max(0.0, now - _YEAR_2000 - oldest / 1_000_000)
        return Lag(size, seconds, self._begun.count)

    @override
    def confirm(self, positions: Sequence[str]) -> None:
        lowest = min(LogPosition.parse(text).lsn for text in positions)
        if self._state is None or lowest <= self._state.confirmed:
            return
        with self._connected("moving the slot of") as connection:
            connection.execute("select pg_replication_slot_advance(%s, %s::pg_lsn)", (self._name, _lsn(lowest)))

    @override
    def close(self) -> None:
        for spool in (self._spools or {}).values():
            spool.close()
        self._spools = None

    # Reading

    def _read(self) -> dict[int, _Spool]:
        if self._spools is None:
            self._spools = {}
            followed = set(self._oids.values())
            with self._connected("asking for the end of the change log, at") as connection:
                row = connection.execute("select (pg_current_wal_flush_lsn() - '0/0')::int8").fetchone()
                assert row is not None and self._state is not None
                self._until = self._reached = row[0]
                self._behind = (max(0, row[0] - self._state.confirmed), time.time())
            for batch in self._source.batches(self._statement(), "timezone=UTC"):
                self._put_aside(batch.column(0), followed)
        return self._spools

    def _statement(self) -> str:
        names = {
            "slot": self._name,
            "publication": '"' + self._publication.replace('"', '""') + '"',
            "until": _lsn(self._until),
        }
        return sql.SQL(_PEEK).format(**{key: sql.Literal(value) for key, value in names.items()}).as_string(None)

    def _put_aside(self, messages: pa.Array, followed: set[int]) -> None:
        assert self._spools is not None
        buffer, begin = bytes_of(messages)
        kinds = kinds_of(buffer, begin)
        of = self._begun.of(buffer, begin, kinds)
        if len(of.lsn):
            # One that was committed just beyond where the log was to end is told whole all the same.
            self._reached = max(self._reached, int(of.lsn.max()) + 1)
        for oid, chosen in tables_of(buffer, begin, kinds).items():
            if oid in followed:
                spool = self._spools.setdefault(oid, _Spool())
                values = [messages.filter(pa.array(chosen)), pa.array(of.lsn[chosen]), pa.array(of.xid[chosen])]
                spool.add(pa.RecordBatch.from_arrays(values, schema=_SPOOLED))

    def _records(
        self, rows: Rows, known: dict[tuple[str, int, int], Column | None], as_column: Callable[[Column], Column | None]
    ) -> ChangeRecords:
        fields = []
        for told in rows.relation.columns:
            if told.name not in rows.columns:
                continue
            place = (told.name, told.oid, told.modifier)
            if place not in known:
                known[place] = as_column(self._source.column(*place))
            column = known[place]
            if column is None:
                continue
            base = self._source.base_type(told.oid)

            def ask(expression: str, text: pa.Array, oid: int = told.oid, modifier: int = told.modifier) -> pa.Array:
                return self._source.cast(expression, oid, modifier, text)

            fields.append(to_column(column, base, rows.columns[told.name], ask, utc=self._utc))
        return ChangeRecords(typed(fields, len(rows.logged.gone)), rows.logged, truncated=rows.truncated)

    @contextmanager
    def _connected(self, doing: str) -> Iterator[psycopg.Connection[Any]]:
        """A connection of its own, outside of the snapshot."""
        with self._source.translated(doing), closing(self._source.connect()) as connection:
            yield connection


def _kinds(batch: pa.RecordBatch) -> Any:
    buffer, begin = bytes_of(batch.column("data"))
    return kinds_of(buffer, begin)


def _number(text: str) -> int:
    high, _, low = text.partition("/")
    return int(high, 16) << 32 | int(low, 16)


def _lsn(number: int) -> str:
    return f"{number >> 32:X}/{number & 0xFFFFFFFF:X}"
