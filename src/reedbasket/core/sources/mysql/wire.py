"""Rows from the wire, many at a time: found in the stream, to be cut into columns.

Source: MariaDB's documentation, "Client/Server Protocol": "COM_STMT_PREPARE", "COM_STMT_EXECUTE", "Result Set Packets"; MySQL's is the
same. A row is a packet. Statements are prepared, because rows then come in binary: the server needs a third less time than for writing
each value as text, and the text does not have to be parsed.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pymysql
from pymysql.connections import MySQLResult
from pymysql.constants import COMMAND, CR
from pymysql.err import raise_mysql_exception

from ..sql.slices import Numbers
from .binary import cut_columns

_BATCH_BYTES = 2 * 1024 * 1024
_READ_BYTES = 256 * 1024
_LONGEST = 0xFFFFFF
_END, _ERROR = 0xFE, 0xFF
_PREPARE, _EXECUTE, _CLOSE = COMMAND.COM_STMT_PREPARE, COMMAND.COM_STMT_EXECUTE, COMMAND.COM_STMT_CLOSE


def columns_of(connection: pymysql.Connection[Any], statement: str) -> tuple[list[Any], Iterator[list[pa.Array]]]:
    """(the columns, as the server describes them; batches of them, see binary.cut_columns). Has to be iterated to its end."""
    driver: Any = connection
    driver._execute_command(_PREPARE, statement)
    number, columns, values = struct.unpack_from("<IHH", driver._read_packet().get_all_data(), 1)
    # What it will yield, and an end behind it; the same comes again with the rows. We bind nothing.
    for _ in range((columns + 1 if columns else 0) + (values + 1 if values else 0)):
        driver._read_packet()
    driver._execute_command(_EXECUTE, struct.pack("<IBI", number, 0, 1))
    result: Any = MySQLResult(driver)
    result.init_unbuffered_query()
    # From here on the stream is ours: the driver would make an object of every value.
    result.unbuffered_active = False
    return list(result.fields or []), _batches(driver, list(result.fields or []), number)


def _batches(driver: Any, fields: Sequence[Any], number: int) -> Iterator[list[pa.Array]]:
    """number: the statement's, which the server keeps until it is told otherwise."""
    stream, at, buffer = driver._rfile, 0, bytearray()
    starts: list[int] = []
    while True:
        data = stream.read1(_READ_BYTES)
        if not data:
            raise pymysql.err.OperationalError(CR.CR_SERVER_LOST, "the server closed the connection")
        buffer += data
        at = _packets(buffer, at, starts)
        last = starts[-1] if starts else 0
        size = at - last
        # Neither can begin a row; and nothing comes behind them.
        ended = bool(starts) and (buffer[last] == _ERROR or (buffer[last] == _END and size < 9))
        if not ended and (at < _BATCH_BYTES or size == _LONGEST):
            continue
        if ended:
            starts.pop()
            driver._next_seq_id = (buffer[last - 1] + 1) % 256
        left = buffer[at:]
        if starts:
            yield from _rows(buffer, starts, last - 4 if ended else at, fields)
        if ended and buffer[last] == _ERROR:
            raise_mysql_exception(bytes(buffer[last:at]))
        if ended:
            driver._execute_command(_CLOSE, struct.pack("<I", number))  # nothing is answered
            return
        starts, at, buffer = [], 0, left


def _packets(buffer: bytearray, at: int, starts: list[int]) -> int:
    """Note where packets begin, and return where the last whole one ends. Nothing is done here but what has to be done row by row."""
    header, append, most = struct.Struct("<I").unpack_from, starts.append, len(buffer) - 4
    before = at
    while at <= most:
        before = at
        append(at + 4)
        at += (header(buffer, at)[0] & _LONGEST) + 4
    if at > most + 4:
        # The last one is not whole yet; of the longest kind neither is what is continued in the next.
        starts.pop()
        return before
    return at


def _rows(buffer: bytearray, starts: list[int], end: int, fields: Sequence[Any]) -> Iterator[list[pa.Array]]:
    ends: Numbers = np.array([*starts[1:], end + 4], np.int64) - 4
    sizes = ends - np.array(starts, np.int64)
    if not (sizes == _LONGEST).any():
        yield cut_columns(buffer, np.array(starts, np.int64), fields)
        return
    # A row of 16 MB or more comes in several packets, all but the last of them as long as can be.
    joined = bytearray()
    for start, stop in zip(starts, ends.tolist()):
        joined += buffer[start:stop]
        if stop - start < _LONGEST:
            yield cut_columns(joined, np.zeros(1, np.int64), fields)
            joined = bytearray()
