"""Rows as they come over the wire, many at a time: found in the stream, cut into columns.

Source: MariaDB's documentation, "Result Set Packets" and "Protocol data types"; MySQL's is the same. A row is a packet, its values are
texts behind their length; 251 stands for null.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from typing import Any

import numpy as np
import pyarrow as pa
import pymysql
from pymysql.connections import MySQLResult
from pymysql.constants import COMMAND, CR
from pymysql.err import raise_mysql_exception

from ..slices import Bytes, Numbers, cut, little_endian

_BATCH_BYTES = 2 * 1024 * 1024
_READ_BYTES = 256 * 1024
_LONGEST = 0xFFFFFF
_END, _ERROR = 0xFE, 0xFF


def columns_of(connection: pymysql.Connection[Any], statement: str) -> tuple[list[Any], Iterator[list[pa.Array]]]:
    """(what the columns are, as the server says; batches of them, each value as its bytes). To be gone through to its end."""
    driver: Any = connection
    driver._execute_command(COMMAND.COM_QUERY, statement)
    result: Any = MySQLResult(driver)
    result.init_unbuffered_query()
    # From here on the stream is ours: the driver would make an object of every value.
    result.unbuffered_active = False
    return list(result.fields or []), _batches(driver, len(result.fields or []))


def _batches(driver: Any, many: int) -> Iterator[list[pa.Array]]:
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
            yield from _rows(buffer, starts, last - 4 if ended else at, many)
        if ended and buffer[last] == _ERROR:
            raise_mysql_exception(bytes(buffer[last:at]))
        if ended:
            return
        starts, at, buffer = [], 0, left


def _packets(buffer: bytearray, at: int, starts: list[int]) -> int:
    """Notes where packets begin, and returns where the last whole one ends. Nothing is done here but what has to be, row by row."""
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


def _rows(buffer: bytearray, starts: list[int], end: int, many: int) -> Iterator[list[pa.Array]]:
    ends = np.array([*starts[1:], end + 4], np.int64) - 4
    sizes = ends - np.array(starts, np.int64)
    if not (sizes == _LONGEST).any():
        yield _cut(buffer, starts, many)
        return
    # A row of 16 MB or more comes in several packets, all but the last of them as long as can be.
    joined = bytearray()
    for start, stop in zip(starts, ends.tolist()):
        joined += buffer[start:stop]
        if stop - start < _LONGEST:
            yield _cut(joined, [0], many)
            joined = bytearray()


def _cut(data: bytearray, rows: list[int], many: int) -> list[pa.Array]:
    buffer: Bytes = np.frombuffer(data, np.uint8)
    at: Numbers = np.array(rows, np.int64)
    columns = []
    for _ in range(many):
        first = buffer[at].astype(np.int64)
        null = first == 251
        lengths, sizes = np.where(null, 0, first), np.ones(len(at), np.int64)
        if (first > 251).any():
            for mark, size in ((252, 2), (253, 3), (254, 8)):
                long = first == mark
                if long.any():
                    lengths[long] = little_endian(buffer, at[long] + 1, min(size, 7))
                    sizes[long] = size + 1
        columns.append(cut(buffer, at + sizes, lengths, ~null))
        at = np.minimum(at + sizes + lengths, len(data) - 1)
    return columns
