"""How a record is recognised when it comes again: eight bytes for its content, in whatever form a batch has it.

A column's type is that of its batch: decimals arrive as text if there is a NaN among them, integers as doubles if there is a fraction
among them, and in SQLite each value has its own type. None of that makes it another record, or an overlap would append it twice.
"""

from __future__ import annotations

import hashlib
import re
from decimal import Decimal
from typing import Any

from ..records.exact_json import dump, dump_lenient

DIGEST_BYTES = 8
# As numbers are written; longer ones are compared letter by letter.
_NUMBER = re.compile(r"-?(?:0|[1-9][0-9]{0,40})(?:\.[0-9]{1,40})?")


def digest(record: Any) -> bytes:
    """A record's digest, whatever the order of its keys. A field that came or went and is null does not change it."""
    if isinstance(record, dict):
        record = {name: _plain(value) for name, value in record.items() if value is not None}
    return exact_digest(record)


def exact_digest(record: Any) -> bytes:
    """The digest of a record exactly as it arrived, except for the order of its keys and for fields that are null."""
    if isinstance(record, dict) and None in record.values():
        record = {name: value for name, value in record.items() if value is not None}
    try:
        text = dump(record, sort_keys=True)
    except ValueError:
        text = dump_lenient(record)
    return hashlib.blake2b(text.encode("utf-8", "surrogatepass"), digest_size=DIGEST_BYTES).digest()


def _plain(value: Any) -> Any:
    kind = type(value)
    if kind is str:
        return _number(value) if value[:1] in "-0123456789" and _NUMBER.fullmatch(value) else value
    if kind is int:
        return str(value)
    if kind is float or kind is Decimal:
        return _number(format(Decimal(repr(value)) if kind is float else value, "f"))
    if kind is dict:
        return {name: _plain(inner) for name, inner in value.items()}
    return [_plain(inner) for inner in value] if kind is list else value


def _number(text: str) -> str:
    if "." in text:
        text = text.rstrip("0").rstrip(".")
    return "0" if text == "-0" else text
