"""The types of text columns, the same from file to file."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from .text_types import NUMBERS, TextKind, as_inferred, finished, infer, made, one_by_one, wider

# Columns looked at beside each other, and values from which on that is worth it.
_AT_ONCE = 2
_MANY_VALUES = 20_000


@dataclass
class Columns:
    """The types of a table's columns by field name; grows from file to file.

    Args:
        follow: a column widens if a value does not fit; otherwise its record is reported.
    """

    known: dict[str, TextKind]
    zone: str
    follow: bool = True

    def table(self, texts: dict[str, Any], mark: str = ".") -> tuple[pa.Table | None, list[dict[str, Any]]]:
        """Text columns in their types: (columns, nothing), or (None, records) if a value is not of its column's type.

        Args:
            mark: the decimal mark.
        """
        fields, odd = [], False
        read = {name: values if mark == "." else _with_point(values, mark) for name, values in texts.items()}
        # Where a comma stands before fractions, 1.000 is a thousand to whoever wrote it, and no number that we know.
        no_numbers = {name for name, values in texts.items() if mark != "." and _any(values, r"^-?[0-9]+\.[0-9]")}
        inferred = _each_inferred(
            {name: read[name] for name in texts if self.known.get(name) is None and name not in no_numbers}
        )
        for name, values in texts.items():
            kind = self.known.get(name)
            values_made = None
            if kind is not None and not (name in no_numbers and kind.kind in NUMBERS):
                values_made = made(read[name] if kind.kind in NUMBERS else values, kind)
                if values_made is not None and kind.kind == "timestamp" and kind.zoned is None:
                    # From now on it is known whether they name their zone, and the parser can be told.
                    self.known[name] = replace(kind, zoned=values_made.type.tz is not None)
            if values_made is None:
                found = TextKind("text") if name in no_numbers else inferred[name] if name in inferred else infer(read[name])
                if kind is None and found is not None:
                    self.known[name] = found
                    values_made = as_inferred(read[name] if found.kind in NUMBERS else values, found)
                elif kind is None:
                    values_made = values
                elif found is not None:
                    odd = True
                    if self.follow:
                        self.known[name] = wider(kind, found)
            if not odd:
                fields.append(finished(name, values_made, self.known.get(name), self.zone))
        if odd:
            listed = [self._listed(name, values, read[name], mark) for name, values in texts.items()]
            return None, [dict(zip(texts, row)) for row in zip(*listed)]
        return pa.Table.from_arrays([values for _, values in fields], schema=pa.schema([field for field, _ in fields])), []

    def _listed(self, name: str, values: Any, read: Any, mark: str) -> list[Any]:
        texts, kind = values.to_pylist(), self.known.get(name)
        if mark == "." or kind is None or kind.kind not in NUMBERS:
            return one_by_one(texts, kind, self.zone)
        return [
            text if text and "." in text else one for text, one in zip(texts, one_by_one(read.to_pylist(), kind, self.zone))
        ]


def _with_point(values: Any, mark: str) -> Any:
    """Numbers written with another mark than a point."""
    pattern = rf"^-?[0-9]+\{mark}[0-9]+$"
    if not _any(values, pattern):
        return values
    numbers = pc.fill_null(pc.match_substring_regex(values, pattern), False)
    return pc.if_else(numbers, pc.replace_substring(values, mark, "."), values)


def _each_inferred(texts: dict[str, Any]) -> dict[str, TextKind | None]:
    """Infer the types of columns that are not known yet, in parallel: nothing else of the file is read until they are."""
    if sum(map(len, texts.values())) < _MANY_VALUES:
        return {name: infer(values) for name, values in texts.items()}
    with ThreadPoolExecutor(_AT_ONCE, thread_name_prefix="infer") as pool:
        return dict(zip(texts, pool.map(infer, texts.values())))


def _any(values: Any, pattern: str) -> bool:
    return pc.any(pc.match_substring_regex(values, pattern)).as_py() is True
