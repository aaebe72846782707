"""MariaDB's binary log, by global transaction ids: read once for all tables, and kept by table on disk.

Nothing is kept on the server for us: how far back its log reaches is its own setting, and a position that it has purged is reported at
once. A transaction arrives as a whole.
"""

from __future__ import annotations

import random
import re
import struct
import time
from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass, field
from tempfile import TemporaryFile
from typing import IO, TYPE_CHECKING, Any

import pymysql
from typing_extensions import override

from ...errors import SourceError
from ...mysql import is_maria, rows
from ..sql.changelog import CdcPositionLost, ChangeLog, Lag, LogPart
from ..sql.tables import Column, Table
from . import binlog
from .log_rows import RowBuilder

if TYPE_CHECKING:
    from .database import MysqlSource

_DUMP, _NON_BLOCK = 0x12, 0x01
_NOT_THERE = 1236
_ROWS_AT_ONCE = 4_000
_NEEDED = {
    "log_bin": "ON",
    "binlog_format": "ROW",
    "binlog_row_image": "FULL",
    "binlog_row_metadata": "FULL",
    "log_bin_compress": "OFF",
}
_NONE = "none"
_FRAME = struct.Struct("<cI")

Place = tuple[str, str]
State = dict[int, tuple[str, int]]


def parse(position: str) -> State:
    """{domain: (its last transaction, the number of it)}."""
    found = {}
    for gtid in filter(None, position.replace(_NONE, "").split(",")):
        domain, _, number = gtid.split("-")
        found[int(domain)] = (gtid, int(number))
    return found


def written(state: State) -> str:
    """A position as the server writes it: global transaction ids, separated by commas."""
    return ",".join(gtid for _, (gtid, _) in sorted(state.items())) or _NONE


class _Spool:
    """One table's events on disk, each after its kind and length: B begins a transaction, C ends it; between them M is a structure, R
    rows, E a truncation.
    """

    def __init__(self) -> None:
        self._file: IO[bytes] = TemporaryFile()  # noqa: SIM115 (closed with the log)
        self.rows = 0

    def add(self, kind: bytes, data: bytes) -> None:
        self._file.write(_FRAME.pack(kind, len(data)))
        self._file.write(data)
        self.rows += kind in b"RE"

    def frames(self) -> Iterator[tuple[bytes, bytes]]:
        self._file.seek(0)
        while head := self._file.read(_FRAME.size):
            kind, size = _FRAME.unpack(head)
            yield kind, self._file.read(size)

    def close(self) -> None:
        self._file.close()


@dataclass
class _Read:
    """What was read of the log, from one position on."""

    start: State
    reached: State
    spools: dict[Place, _Spool]
    size: int = 0
    transactions: int = 0
    oldest: int | None = None
    within: set[Place] = field(default_factory=set)

    def touched(self, place: Place, gtid: str) -> _Spool:
        """Where a table's part of a transaction goes."""
        spool = self.spools.setdefault(place, _Spool())
        if place not in self.within:
            self.within.add(place)
            spool.add(b"B", gtid.encode())
        return spool

    def transaction_ended(self) -> None:
        for place in self.within:
            self.spools[place].add(b"C", b"")
        self.within.clear()

    def covers(self, position: State) -> bool:
        return all(position.get(domain, ("", 0))[1] >= number for domain, (_, number) in self.start.items())


class MariaLog(ChangeLog):
    """See ChangeLog."""

    def __init__(self, source: MysqlSource, zone: str) -> None:
        self._source = source
        self._zone = zone
        self._tables: dict[Place, Table] = {}
        self._found: _Read | None = None
        self._began = time.time()

    @override
    def prepare(self, tables: Sequence[Table]) -> str | None:
        with self._source.translated("opening the change log of"), self._source.address.connect() as connection:
            require_log(connection, str(self._source.address))
        self._tables = {(table.schema, table.name): table for table in tables}
        return None

    @override
    def look(self, tables: Sequence[Table], saved: str | None) -> None:
        self.prepare(tables)
        if saved:
            self.require(saved)

    @override
    def here(self) -> str:
        return self._source.snapshot_position() or _NONE

    @override
    def require(self, saved: str) -> None:
        with self._source.translated("continuing the change log of"):
            connection = self._dump(parse(saved))
            try:
                _packet(connection)
            except pymysql.Error as error:
                if error.args and error.args[0] == _NOT_THERE:
                    raise CdcPositionLost(
                        "continuing the change log of", str(self._source.address), found=str(error.args[1]),
                        fix="`reed run FEED --allow-loss` reads its tables in full again and continues from there; let the server keep "
                        "its log longer (binlog_expire_logs_seconds)",
                    ) from error  # fmt: skip
                raise
            finally:
                connection._force_close()

    @override
    def parts(
        self, table: Table, key: Sequence[str], saved: str, as_column: Callable[[Column], Column | None]
    ) -> Iterator[LogPart]:
        position, place = parse(saved), (table.schema, table.name)
        found = self._read(position)
        if place not in found.spools:
            return
        building = RowBuilder(table, key, as_column, self._zone, str(self._source.address))
        taken, reached = False, dict(position)
        for kind, data in found.spools[place].frames():
            if kind == b"M":
                yield from building.flush(None)
                building.structure(data)
            elif kind == b"B":
                ((domain, (gtid, number)),) = parse(data.decode()).items()
                taken = number <= position.get(domain, ("", 0))[1]
            elif not taken and kind == b"E":
                yield from building.truncated()
            elif not taken and kind == b"R":
                building.add(data)
                if building.waiting >= _ROWS_AT_ONCE:
                    yield from building.flush(None)
            elif not taken:
                reached[domain] = (gtid, number)
                if building.waiting >= _ROWS_AT_ONCE // 2:
                    yield from building.flush(written(reached))
        yield from building.flush(self.after(saved))

    @override
    def after(self, saved: str) -> str:
        found = self._read(parse(saved))
        return written(parse(saved) | found.reached)

    @override
    def has_changes(self) -> bool:
        # The log moves by transactions alone: a position costs nothing to save, and lets the server forget what is before.
        return self._found is not None and self._found.transactions > 0

    @override
    def lag(self) -> Lag | None:
        if self._found is None:
            return None
        oldest = self._found.oldest
        return Lag(self._found.size, None if oldest is None else max(0.0, self._began - oldest), self._found.transactions)

    @override
    def confirm(self, positions: Sequence[str]) -> None:
        """Does nothing: the server keeps its log as long as it is set to."""

    @override
    def close(self) -> None:
        for spool in self._found.spools.values() if self._found else ():
            spool.close()
        self._found = None

    # Reading

    def _read(self, position: State) -> _Read:
        if self._found is None or not self._found.covers(position):
            self.close()
            with self._source.translated("reading the change log of"):
                self._found = self._gather(position)
        return self._found

    def _gather(self, position: State) -> _Read:
        found = _Read(position, dict(position), {})
        ((last,),) = rows(self._source.side, "select @@global.gtid_binlog_pos")
        until = {domain: number for domain, (_, number) in parse(last).items()}
        if all(position.get(domain, ("", 0))[1] >= number for domain, number in until.items()):
            return found
        connection = self._dump(position)
        try:
            self._follow(connection, found, until)
        finally:
            connection._force_close()
        return found

    def _follow(self, connection: Any, found: _Read, until: dict[int, int]) -> None:
        rows = _FollowedRows(found, self._tables)
        gtid, domain, number, alone, checksums = "", 0, 0, False, False
        while (event := _packet(connection)) is not None:
            self._source.require_not_stopped("reading the change log of")
            kind, ended = event[4], False
            found.size += len(event)
            if kind == binlog.FORMAT:
                checksums = binlog.has_checksums(event)
            event = event[:-4] if checksums else event
            if kind == binlog.GTID:
                gtid, domain, number, alone = binlog.gtid_of(event)
                found.oldest = found.oldest or struct.unpack_from("<I", event)[0]
            elif kind == binlog.QUERY:
                database, statement = binlog.query_of(event)
                rows.truncated(database, statement, gtid)
                ended = alone or statement.strip().upper() in ("COMMIT", "ROLLBACK")
            elif binlog.is_compressed(kind):
                raise SourceError(
                    "reading the change log of", str(self._source.address), found="it is compressed (log_bin_compress)",
                    fix="set global log_bin_compress = OFF;", code="source.cdc_not_enabled",
                )  # fmt: skip
            else:
                rows.take(kind, event, gtid)
                ended = kind == binlog.XID
            if ended and gtid:
                found.transaction_ended()
                found.reached[domain] = (gtid, number)
                found.transactions += 1
                if all(found.reached.get(d, ("", 0))[1] >= n for d, n in until.items()):
                    return

    def _dump(self, position: State) -> Any:
        """A connection on which the log follows, from a position to its end."""
        connection: Any = self._source.address.connect()
        gtids = ",".join(gtid for gtid, _ in position.values())
        for statement in (
            "set @master_binlog_checksum = @@global.binlog_checksum", "set @mariadb_slave_capability = 4",
            f"set @slave_connect_state = '{gtids}'", "set @slave_gtid_strict_mode = 0",
        ):  # fmt: skip
            rows(connection, statement)
        # A number that no other reader of this server's log has: the server would end that one.
        payload = struct.pack("<IHI", 4, _NON_BLOCK, random.randrange(2**31, 2**32))
        connection._execute_command(_DUMP, payload)
        return connection


class _FollowedRows:
    """Changes of rows, kept by table."""

    def __init__(self, found: _Read, tables: Collection[Place]) -> None:
        self._found = found
        self._tables = tables
        self._mapped: dict[int, tuple[Place, bytes]] = {}
        self._told: dict[Place, bytes] = {}

    def take(self, kind: int, event: bytes, gtid: str) -> None:
        """An event that may contain rows; gtid: of its transaction."""
        if kind == binlog.TABLE_MAP:
            table, structure = binlog.table_of(event)
            self._mapped[table] = ((structure.schema, structure.name), event)
        elif kind in binlog.WRITE_ROWS + binlog.UPDATE_ROWS + binlog.DELETE_ROWS:
            place, structure_event = self._mapped[binlog.rows_table(event)]
            if place in self._tables:
                spool = self._found.touched(place, gtid)
                # Numbers of tables change; their structure is told again only where it is another.
                if self._told.get(place) != structure_event[binlog.HEADER + 6 :]:
                    self._told[place] = structure_event[binlog.HEADER + 6 :]
                    spool.add(b"M", structure_event)
                spool.add(b"R", event)

    def truncated(self, database: str, statement: str, gtid: str) -> None:
        """A statement that may truncate tables."""
        for place in binlog.truncated_tables(database, statement):
            if place in self._tables:
                self._found.touched(place, gtid).add(b"E", b"")


def _packet(connection: Any) -> bytes | None:
    """The next event, None at the end of the log. Raises pymysql.Error."""
    packet = connection._read_packet()
    if packet.is_eof_packet():
        return None
    data: bytes = packet._data
    return data[1:]


def require_log(connection: pymysql.Connection[Any], on: str) -> None:
    """Check that the server keeps a log with whole rows.

    Raises:
        SourceError: it does not.
    """
    doing = "following the change log of"
    if not is_maria(connection):
        raise SourceError(
            doing,
            on,
            found="it is MySQL, whose log is not supported yet",
            fix="use changes by cursor or compare",
            code="source.cdc_not_enabled",
        )
    there = dict(rows(connection, f"show global variables where variable_name in ({', '.join(repr(n) for n in _NEEDED)})"))
    wrong = [name for name, wanted in _NEEDED.items() if there.get(name, wanted) != wanted]
    if wrong:
        static = "set log_bin and server_id = 1 in the server's configuration, then restart it" if "log_bin" in wrong else ""
        sets = "; ".join(f"set global {name} = '{_NEEDED[name]}'" for name in wrong if name != "log_bin")
        raise SourceError(
            doing, on, found=", ".join(f"{name} is {there[name]}" for name in wrong), fix="; ".join(filter(None, [static, sets])),
            code="source.cdc_not_enabled",
        )  # fmt: skip


def snapshot_gtid(keeper: pymysql.Connection[Any], side: pymysql.Connection[Any]) -> str:
    """The position of a consistent snapshot; '' if nothing was ever written to the log."""
    found = dict(rows(keeper, "show status like 'binlog_snapshot_%'"))
    file, place = found.get("Binlog_snapshot_file", ""), found.get("Binlog_snapshot_position", "0")
    if not file:
        return ""
    ((position,),) = rows(side, "select binlog_gtid_pos(%s, %s)", file, int(place))
    text = position.decode() if isinstance(position, bytes) else str(position or "")
    return text if re.fullmatch(r"[\d,-]*", text) else ""
