"""Sending rows to the server: by LOAD DATA LOCAL where it allows that, otherwise by INSERT of many rows.

Source: MariaDB's documentation, "LOAD DATA INFILE" and "Client/Server Protocol: Packet LOCAL INFILE". The server asks for a file; whatever
it names, it gets the rows, so that no server can have a file of this machine.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import pymysql
from pymysql.constants import COMMAND, CR
from pymysql.protocol import OKPacketWrapper

from ...mysql import rows
from ...records.arrow import one_array

_PACKET_BYTES = 512 * 1024
_ROWS_AT_ONCE = 20_000
_ARRAY_BYTES = 64 * 1024 * 1024
# What a statement of values may take; the server's own bound (max_allowed_packet) is 16 MB or more by default, in bytes.
_STATEMENT_BYTES = 1024 * 1024
_ESCAPED = (("\\", "\\\\"), ("\t", "\\t"), ("\n", "\\n"), ("\x00", "\\0"))

# Of each column: its name as SQL, whether it is sent as hexadecimal digits, whether it has to be quoted, its values as text.
Texts = Sequence[tuple[str, bool, bool, pa.Array]]


class NotStored(Exception):
    """The server took rows in another form than they were sent; the words say what."""


def load(connection: pymysql.Connection[Any], table: str, columns: Texts) -> None:
    """Send rows by LOAD DATA LOCAL.

    Args:
        table: as SQL.

    Raises:
        NotStored: the server changed a value or left a row out.
    """
    targets = [f"@rb{place}" if hexadecimal else name for place, (name, hexadecimal, _, _) in enumerate(columns)]
    sets = [f"{name} = unhex(@rb{place})" for place, (name, hexadecimal, _, _) in enumerate(columns) if hexadecimal]
    statement = (
        f"load data local infile 'rows' into table {table} character set utf8mb4 fields terminated by '\\t' escaped by '\\\\' "
        f"lines terminated by '\\n' ({', '.join(targets)})" + (f" set {', '.join(sets)}" if sets else "")
    )
    count, sent = len(columns[0][3]), 0
    driver: Any = connection
    driver._execute_command(COMMAND.COM_QUERY, statement)
    answer = driver._read_packet()
    if not answer.is_load_local_packet():
        raise pymysql.err.OperationalError(CR.CR_COMMANDS_OUT_OF_SYNC, "the server did not ask for the rows")
    for part in _lines(columns, count):
        for start in range(0, len(part), _PACKET_BYTES):
            driver.write_packet(bytes(part[start : start + _PACKET_BYTES]))
    driver.write_packet(b"")
    done: Any = OKPacketWrapper(driver._read_packet())
    sent = done.affected_rows
    # A batch from a client is taken as by INSERT IGNORE: what does not fit is a warning.
    if done.warning_count or sent != count:
        told = "; ".join(str(row[2]) for row in rows(connection, "show warnings limit 3"))
        raise NotStored(told or f"{sent} of {count} rows were stored")


def insert(connection: pymysql.Connection[Any], table: str, columns: Texts) -> None:
    """Send rows by INSERT, as many in a statement as fit."""
    into = ", ".join(name for name, _, _, _ in columns)
    values = []
    for _, hexadecimal, quoted, texts in columns:
        if hexadecimal or quoted:
            # Digits need no escape; a backslash is one in the server's literals.
            text = texts if hexadecimal else pc.replace_substring(pc.replace_substring(texts, "\\", "\\\\"), "'", "''")
            texts = pc.binary_join_element_wise("x'" if hexadecimal else "'", text, "'", "")
        values.append(pc.fill_null(texts, "null"))
    lines = pc.binary_join_element_wise(pc.binary_join_element_wise("(", values[0], ""), *values[1:], ",")
    start, listed = 0, pc.binary_join_element_wise(lines, ")", "").to_pylist()
    with connection.cursor() as cursor:
        while start < len(listed):
            end, size = start, 0
            while end < len(listed) and (end == start or size < _STATEMENT_BYTES):
                size += len(listed[end])
                end += 1
            cursor.execute(f"insert into {table} ({into}) values " + ",".join(listed[start:end]))
            start = end


def _lines(columns: Texts, count: int) -> Iterator[memoryview]:
    """The rows as lines of text, as many at a time as fit into one array."""
    size = max(1, sum(values.nbytes for _, _, _, values in columns))
    step = max(1, min(_ROWS_AT_ONCE, count * _ARRAY_BYTES // size))
    for start in range(0, count, step):
        texts = []
        for _, _, quoted, values in columns:
            part = values.slice(start, step)
            for raw, escaped in _ESCAPED if quoted else ():
                part = pc.replace_substring(part, raw, escaped)
            texts.append(pc.fill_null(part, "\\N"))
        texts[-1] = pc.binary_join_element_wise(texts[-1], "\n", "")
        lines = one_array(pa.chunked_array([pc.binary_join_element_wise(*texts, "\t")]))
        # The texts of an array stand one behind the other.
        _, ends, held = lines.cast(pa.large_string()).buffers()
        bounds = memoryview(ends).cast("q")
        yield memoryview(held)[bounds[0] : bounds[len(lines)]]
