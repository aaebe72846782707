"""Parsing events of MariaDB's binary log.

Source: MariaDB's documentation, "Replication Protocol": "2-Binlog Event Header", "Table Map Event", "Rows Event Version 1", "GTID Event".
"""

from __future__ import annotations

import re
import struct
from collections.abc import Iterator
from dataclasses import dataclass

from pymysql.charset import charset_by_id

HEADER = 19
QUERY, FORMAT, XID, TABLE_MAP, GTID = 2, 15, 16, 19, 162
WRITE_ROWS, UPDATE_ROWS, DELETE_ROWS = (23, 30), (24, 31), (25, 32)
_COMPRESSED = (165, 166, 167, 168, 169, 170, 171)
_STANDALONE = 1
_SIGNEDNESS, _DEFAULT_CHARSET, _COLUMN_CHARSET, _NAMES, _SETS, _ENUMS = 1, 2, 3, 4, 5, 6
# Type codes that the log uses beside those of the protocol.
NUMBERS = {1, 2, 3, 4, 5, 8, 9, 13, 246}
STRING, ENUM, SET, VARCHAR, BLOB = 254, 247, 248, 15, 252
_TEXTS = {STRING, VARCHAR, 253, BLOB}
_META_SIZES = {4: 1, 5: 1, 15: 2, 16: 2, 17: 1, 18: 1, 19: 1, 245: 1, 246: 2, 247: 2, 248: 2, 252: 1, 253: 2, 254: 2, 255: 1}
_EMPTIED = re.compile(r"^\s*(?:/\*.*?\*/\s*)*(?:truncate(?:\s+table)?|drop\s+table(?:\s+if\s+exists)?)\s+(.*)$", re.I | re.S)
_NAME = re.compile(r"(?:`((?:[^`]|``)+)`|([\w$]+))(?:\s*\.\s*(?:`((?:[^`]|``)+)`|([\w$]+)))?")


@dataclass(frozen=True)
class BinlogColumn:
    """A column in the log.

    Attributes:
        code: of the type, with ENUM and SET told from STRING.
        meta: its further bytes.
        encoding: of text; None for bytes.
        members: of ENUM and SET, as text.
    """

    name: str
    code: int
    meta: bytes
    unsigned: bool
    encoding: str | None
    members: tuple[bytes, ...] = ()


@dataclass(frozen=True)
class MappedTable:
    """The structure of the row events that follow."""

    schema: str
    name: str
    columns: tuple[BinlogColumn, ...]


def gtid_of(event: bytes) -> tuple[str, int, int, bool]:
    """(the id as MariaDB writes it, domain, number, whether the next event is the whole transaction)."""
    number, domain, flags = struct.unpack_from("<QIB", event, HEADER)
    (server,) = struct.unpack_from("<I", event, 5)
    return f"{domain}-{server}-{number}", domain, number, bool(flags & _STANDALONE)


def has_checksums(event: bytes) -> bool:
    """Whether events have checksums, from the event that describes the file: the kind of checksum is given before its own."""
    return event[-5] == 1


def query_of(event: bytes) -> tuple[str, str]:
    """(database, statement)."""
    _, _, length, _, status = struct.unpack_from("<IIBHH", event, HEADER)
    at = HEADER + 13 + status
    return event[at : at + length].decode(), event[at + length + 1 :].decode("utf-8", "replace")


def truncated_tables(database: str, statement: str) -> list[tuple[str, str]]:
    """[(database, table)] of tables that a statement leaves without rows."""
    found = _EMPTIED.match(statement)
    if not found:
        return []
    names = []
    for one in found[1].split(","):
        name = _NAME.match(one.strip())
        if name:
            first, second = (name[1] or name[2]).replace("``", "`"), (name[3] or name[4] or "").replace("``", "`")
            names.append((first, second) if second else (database, first))
    return names


def table_of(event: bytes) -> tuple[int, MappedTable]:
    """(the number by which row events name it, the table)."""
    number = int.from_bytes(event[HEADER : HEADER + 6], "little")
    at = HEADER + 8
    schema = event[at + 1 : at + 1 + event[at]].decode()
    at += 2 + event[at]
    name = event[at + 1 : at + 1 + event[at]].decode()
    at += 2 + event[at]
    many, at = number_at(event, at)
    codes = event[at : at + many]
    size, at = number_at(event, at + many)
    metas, meta_at = [], at
    for code in codes:
        length = _META_SIZES.get(code, 0)
        metas.append(event[meta_at : meta_at + length])
        meta_at += length
    at += size + (many + 7) // 8
    return number, MappedTable(schema, name, _columns(codes, metas, _optional(event, at)))


def _optional(event: bytes, at: int) -> dict[int, bytes]:
    found = {}
    while at < len(event):
        what = event[at]
        size, at = number_at(event, at + 1)
        found[what] = event[at : at + size]
        at += size
    return found


def _columns(codes: bytes, metas: list[bytes], told: dict[int, bytes]) -> tuple[BinlogColumn, ...]:
    names, enums, sets = list(_strings(told.get(_NAMES, b""))), _lists(told.get(_ENUMS, b"")), _lists(told.get(_SETS, b""))
    real = [meta[0] if code == STRING and meta[0] in (ENUM, SET) else code for code, meta in zip(codes, metas)]
    signs, charsets = told.get(_SIGNEDNESS, b""), _charsets(told, sum(code in _TEXTS for code in real))
    columns, numbers = [], 0
    for place, (code, meta) in enumerate(zip(real, metas)):
        unsigned = False
        if code in NUMBERS:
            unsigned = bool(signs[numbers // 8] >> (7 - numbers % 8) & 1) if numbers // 8 < len(signs) else False
            numbers += 1
        encoding = _encoding(next(charsets, 63)) if code in _TEXTS else None
        members = next(enums, ()) if code == ENUM else next(sets, ()) if code == SET else ()
        columns.append(BinlogColumn(names[place].decode() if names else "", code, meta, unsigned, encoding, members))
    return tuple(columns)


def _charsets(told: dict[int, bytes], many: int) -> Iterator[int]:
    if _COLUMN_CHARSET in told:
        yield from _numbers(told[_COLUMN_CHARSET])
    elif _DEFAULT_CHARSET in told:
        numbers = list(_numbers(told[_DEFAULT_CHARSET]))
        others = dict(zip(numbers[1::2], numbers[2::2]))
        yield from (others.get(place, numbers[0]) for place in range(many))


def _encoding(collation: int) -> str | None:
    """Python's name; None for bytes."""
    if collation == 63:
        return None
    try:
        name: str = charset_by_id(collation).encoding
        return name
    except KeyError:
        return "utf-8"  # collations that the driver does not know are the newer ones of utf8mb4


def _strings(data: bytes) -> Iterator[bytes]:
    at = 0
    while at < len(data):
        size, at = number_at(data, at)
        yield data[at : at + size]
        at += size


def _lists(data: bytes) -> Iterator[tuple[bytes, ...]]:
    at = 0
    while at < len(data):
        many, at = number_at(data, at)
        members = []
        for _ in range(many):
            size, at = number_at(data, at)
            members.append(data[at : at + size])
            at += size
        yield tuple(members)


def _numbers(data: bytes) -> Iterator[int]:
    at = 0
    while at < len(data):
        number, at = number_at(data, at)
        yield number


def number_at(data: bytes, at: int) -> tuple[int, int]:
    """(a number of variable length, where it ends)."""
    first = data[at]
    if first < 251:
        return first, at + 1
    size = {252: 2, 253: 3, 254: 8}[first]
    return int.from_bytes(data[at + 1 : at + 1 + size], "little"), at + 1 + size


def is_compressed(kind: int) -> bool:
    """Whether an event holds compressed rows, which are not supported."""
    return kind in _COMPRESSED


def rows_table(event: bytes) -> int:
    """The number of the table whose rows an event brings."""
    return int.from_bytes(event[HEADER : HEADER + 6], "little")
