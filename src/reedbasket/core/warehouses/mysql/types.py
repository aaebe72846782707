"""Types as the server writes them, and values converted from one to a wider one.

Objects and lists are kept as the text that they came as: the server's own JSON would round long numbers. They are told from other text by
their collation.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

from typing_extensions import override

from ...records.column_types import Kind
from ...records.structure import ColumnShape
from ..dialect import Dialect
from ..engine import utc
from ..limits import Limits

# MySQL's documentation, "Fixed-Point Types": at most 65 digits, of which at most 30 behind the point. Few need
# more than 38, which take half the room.
_PRECISIONS, _MOST_BEHIND = (38, 65), 30
_DECLARED: dict[Kind, str] = {
    "bool": "boolean",
    "int64": "bigint",
    "double": "double",
    "decimal": "decimal",
    "text": "longtext",
    "date": "date",
    "timestamp": "datetime(6)",
    "json": "json",
    "binary": "longblob",
    "uuid": "uuid",
}
_DECIMAL = re.compile(r"decimal\(\d+,\d+\)")
_JSON = "longtext collate utf8mb4_bin"
_UUID = "char(36) character set ascii collate ascii_bin"
# What a value takes of a row at most (MySQL's documentation, "InnoDB Row Formats": of long ones the first 40 bytes may stand in it).
_ROW_BYTES: dict[Kind, int] = {
    "bool": 1, "int64": 8, "double": 8, "decimal": 30, "text": 41, "date": 3, "timestamp": 8, "json": 41, "binary": 41, "uuid": 36,
}  # fmt: skip
# One of the 1,017 is the number of the row.
_MOST_COLUMNS = 1_016
# What the loader's own columns take of a row at most.
_OWN_BYTES = 200
# The largest prefix of a text in an index, of the characters that 3,072 bytes hold.
_INDEXED_CHARACTERS = 760
_TEXTS = ("text", "json", "binary")


class TypeNames(Dialect):
    """The server's SQL, in its mode with names in double quotes."""

    row_id = "_rb_row_number"
    blob = "longblob"
    # Four of these and a number are as much as a key may be.
    key_text = "varchar(180)"
    types = _DECLARED

    @override
    def declared(self, column: ColumnShape) -> str:
        if column.kind != "decimal":
            return super().declared(column)
        digits = column.whole + column.fraction
        precision = next((p for p in _PRECISIONS if digits <= p), None)
        fits = precision is not None and column.fraction <= _MOST_BEHIND
        return f"decimal({precision},{column.fraction})" if fits else self.types["text"]

    @override
    def kind_of(self, declared: str) -> Kind | None:
        return "decimal" if _DECIMAL.fullmatch(declared) else super().kind_of(declared)

    @override
    def column_sql(self, column: ColumnShape) -> str:
        declared = self.declared(column)
        return f"{self.quote(column.name)} { ({'json': _JSON, 'uuid': _UUID}.get(declared, declared)) }"

    @override
    def time(self, moment: datetime) -> str:
        return f"timestamp '{utc(moment).strftime('%Y-%m-%d %H:%M:%S.%f')}'"

    @override
    def text_of(self, expression: str) -> str:
        return f"cast({expression} as char)"

    @override
    def highest_first(self, expression: str, kind: Kind) -> str:
        return f"{self.sortable(expression, kind)} desc"  # null is the lowest

    @override
    def differs(self, columns: Sequence[str], left: str, right: str) -> str:
        return "(" + " or ".join(self.is_other(f"{left}.{self.quote(c)}", f"{right}.{self.quote(c)}") for c in columns) + ")"

    @override
    def is_other(self, left: str, right: str) -> str:
        return f"not ({left} <=> {right})"

    def indexed(self, key: Sequence[str], declared: Mapping[str, str]) -> tuple[str, bool]:
        """(columns of an index on a key, as SQL; whether the index knows whole values).

        Args:
            declared: {column: type}.
        """
        longest = _INDEXED_CHARACTERS // len(key)
        whole = [self.kind_of(declared[name]) not in _TEXTS for name in key]
        columns = ", ".join(self.quote(n) + ("" if plain else f"({longest})") for n, plain in zip(key, whole))
        return columns, all(whole)


@dataclass(frozen=True)
class RowLimits(Limits):
    """InnoDB's.

    Attributes:
        row_bytes: what a row may take of a page, besides the loader's own columns.
    """

    row_bytes: int

    @classmethod
    def of_pages(cls, size: int) -> RowLimits:
        """The limits of a server whose pages have a size, in bytes."""
        # Half a page, less what a page needs itself; larger pages do not hold longer rows (MySQL's documentation, "InnoDB Limits").
        return cls(_MOST_COLUMNS, min(size // 2, 16_384) - 66 - _OWN_BYTES)

    @override
    def too_wide(self, columns: Sequence[ColumnShape]) -> str:
        needed = sum(_ROW_BYTES[column.kind] for column in columns) + len(columns) // 8
        if needed <= self.row_bytes:
            return super().too_wide(columns)
        return f"{len(columns)} columns may take {needed:,} bytes of a row, and InnoDB allows {self.row_bytes:,}"


def widened(names: TypeNames, expression: str, before: Kind, column: ColumnShape) -> str:
    """See `engine.Engine.widened`."""
    after, declared = column.kind, names.declared(column)
    if after == "timestamp":
        return f"cast({expression} as datetime(6))"
    if after == "double":
        return f"cast({expression} as double)"
    if after == "decimal" and declared != names.types["text"]:
        return f"cast({expression} as {declared})"
    text = _as_text(expression, before, in_json=after == "json")
    if after == "json" and before in ("text", "date", "timestamp", "uuid"):
        return f"json_quote({text})"
    return text


def _as_text(expression: str, before: Kind, *, in_json: bool) -> str:
    if before == "bool":
        return f"if({expression}, 'true', 'false')"
    if before == "timestamp":
        fraction = f"if(microsecond({expression}) = 0, '', date_format({expression}, '.%f'))"
        return f"concat(date_format({expression}, '%Y-%m-%dT%H:%i:%s'), {fraction}, 'Z')"
    if before == "decimal":
        text = f"cast({expression} as char)"
        return f"if(locate('.', {text}) > 0, trim(trailing '.' from trim(trailing '0' from {text})), {text})"
    if before == "double":
        return _double_as_text(expression, in_json=in_json)
    return f"cast({expression} as char)"


def _double_as_text(expression: str, *, in_json: bool) -> str:
    """Everything else of us writes 5.0, 1e+16 and 2.5e-05, where the server writes 5, 1e16 and 0.000025; in JSON 0.000025 and 2.5e-7, in
    other text 2.5e-07.
    """
    text = f"cast({expression} as char)"
    digits = f"regexp_replace({text}, '^-?0[.]0*', '')"
    mantissa = f"concat(left({digits}, 1), if(length({digits}) > 1, concat('.', substr({digits}, 2)), ''))"
    zeros = f"length(regexp_substr({text}, '[.]0*'))"
    exponent = f"regexp_replace({text}, 'e([0-9])', 'e+\\\\1')"
    small = "0[.]00000"
    if not in_json:
        zeros, small = f"lpad({zeros}, 2, '0')", "0[.]0000"
        exponent = f"regexp_replace({exponent}, 'e([+-])([0-9])$', 'e\\\\10\\\\2')"
    whole = f"{expression} = truncate({expression}, 0) and abs({expression}) < 1e16"
    return f"""case when {text} regexp '^-?[0-9]+$' then concat({text}, '.0')
        when {text} regexp '^-?{small}' then concat(if({expression} < 0, '-', ''), {mantissa}, 'e-', {zeros})
        when {whole} then concat(cast({expression} as decimal(20, 0)), '.0') else {exponent} end"""


def declared_as(column_type: str, collation: str | None) -> str:
    """A column's type, as `TypeNames.declared` has it, from what the catalogue says."""
    found = column_type.lower()
    if found == "longtext" and collation == "utf8mb4_bin":
        return "json"
    if found == "char(36)" and collation == "ascii_bin":
        return "uuid"
    if found == "tinyint(1)":
        return "boolean"
    return re.sub(r"^(bigint|double)\b.*", r"\1", found)
