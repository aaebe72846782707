"""Finding changes by comparing with what was loaded: for sources that offer nothing else.

Everything is read; of each record two 8-byte digests are kept in the warehouse, of its key and of its content. The next run
passes on only records that are new or changed, and knows the keys that are gone.
"""

from __future__ import annotations

import sys
from array import array
from bisect import bisect_left
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from .cursor import digest

# 16 bytes a record, and one while comparing: 136 MB. Beyond it nothing is kept, and the merge sorts out what is unchanged.
MOST_COMPARED = 8_000_000


@dataclass(frozen=True)
class Compared:
    """records: new or changed. unchanged: how many were neither."""

    records: list[dict[str, Any]]
    unchanged: int


class Comparer:
    """One pass over one table. saved: what the last pass left, None for none.

    Keys that share a digest (one chance in 10^7 among a million) are told apart by their content, and merged again each time.
    """

    def __init__(self, key: Sequence[str], saved: bytes | None) -> None:
        self._key = list(key)
        half = len(saved or b"") // 2
        self._keys, self._contents = array("Q", (saved or b"")[:half]), array("Q", (saved or b"")[half:])
        self._seen = bytearray(len(self._keys))
        self._fresh: dict[int, int] = {}
        self._retry: set[int] = set()
        self.compared = saved is not None

    def take(self, records: list[dict[str, Any]]) -> Compared:
        keys, contents, seen, fresh = self._keys, self._contents, self._seen, self._fresh
        count, changed = len(keys), []
        for record in records:
            key, content = key_digest([record.get(k) for k in self._key]), _number(digest(record))
            place = bisect_left(keys, key)
            if place < count and keys[place] == key:
                if contents[place] == content and not seen[place]:
                    seen[place] = 1
                    continue
                seen[place] = 1
                contents[place] = content
            else:
                fresh[key] = content
            changed.append(record)
        return Compared(changed, len(records) - len(changed))

    def retry(self, records: Iterable[Any]) -> None:
        """Records that were passed on and rejected: they will be passed on again."""
        for record in records:
            if isinstance(record, dict):
                self._retry.add(key_digest([record.get(k) for k in self._key]))

    def gone(self) -> set[int]:
        """Key digests of the last pass that this one did not show. To be asked after the last record."""
        return {key for key, seen in zip(self._keys, self._seen) if not seen} if 0 in self._seen else set()

    def kept(self) -> bytes | None:
        """What the next pass needs; None where the records are too many."""
        pairs = list(self._pairs())
        if len(pairs) > MOST_COMPARED:
            return None
        keys, contents = array("Q", (k for k, _ in pairs)), array("Q", (c for _, c in pairs))
        return keys.tobytes() + contents.tobytes()

    def _pairs(self) -> Iterator[tuple[int, int]]:
        """Sorted by key. The fresh ones are few beside the old ones, or there are no old ones."""
        held = zip(self._keys, self._contents, self._seen)
        old = ((key, content) for key, content, seen in held if seen and key not in self._retry)
        new = sorted((key, content) for key, content in self._fresh.items() if key not in self._retry)
        if not self._keys:
            yield from new
            return
        yield from sorted([*old, *new])


def key_digest(values: Sequence[Any]) -> int:
    return _number(digest(list(values)))


def _number(eight_bytes: bytes) -> int:
    return int.from_bytes(eight_bytes, sys.byteorder)
