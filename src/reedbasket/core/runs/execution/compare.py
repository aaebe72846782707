"""Finding changes by comparison with what was loaded before, for sources that offer no other way.

The whole table is read. For each record, two 64-bit hashes are stored in the warehouse: one of its key and one of its content. The next
run passes on only records that are new or changed, and knows which keys are missing. The hashes of a whole batch are looked up at once, in
Arrow.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from operator import itemgetter
from typing import Any

import orjson
import pyarrow as pa
import pyarrow.compute as pc
from xxhash import xxh3_64_intdigest

from ...records.column_records import chosen, value_at
from ...records.exact_json import dump_lenient
from ...records.layout import Family
from ...records.structure import ColumnShape
from ...warehouses.loader.write_mode_migration import Transition
from ...warehouses.warehouse import TableState, Warehouse
from ..planning.order import ResolvedTable

# 16 bytes a record, and one while comparing: 136 MB. Beyond it nothing is kept, and the merge sorts out what is unchanged.
MOST_COMPARED = 8_000_000
# What is kept begins with how: a key of one whole number as it is, or every key as the hash of its text. What begins otherwise is
# from another version of ours, and all is compared anew.
_NUMBERS, _TEXTS = b"xxh3/n1\n", b"xxh3/t1\n"


@dataclass(frozen=True)
class ComparedRecords:
    """The result of comparing a batch.

    Attributes:
        records: those that are new or changed.
        unchanged: the number of the others.
    """

    records: Sequence[dict[str, Any]]
    unchanged: int


class Comparer:
    """One pass over one table.

    Two keys with the same hash (a chance of 3 in 10^8 among a million keys) are told apart by their content, and merged again in each run.

    Args:
        saved: what the last pass left behind; None for the first pass.
    """

    def __init__(self, key: Sequence[str], saved: bytes | None) -> None:
        self._key = list(key)
        self._numbers: bool | None = None  # not known before the first key
        if saved is not None and saved[:8] in (_NUMBERS, _TEXTS):
            self._numbers = saved.startswith(_NUMBERS)
        else:
            saved = None
        held = pa.py_buffer((saved or b"")[8:])
        count = held.size // 16
        self._keys = pa.Array.from_buffers(pa.uint64(), count, [None, held.slice(0, 8 * count)])
        self._contents = pa.Array.from_buffers(pa.uint64(), count, [None, held.slice(8 * count, 8 * count)])
        self._seen = bytearray(count)
        self._stale = bytearray(count)
        self._fresh: list[tuple[pa.Array, pa.Array]] = []
        self._retry: list[pa.Array] = []
        self._odd: list[pa.Array] = []
        self.compared = saved is not None
        # Some records could not be read so far as to tell their keys: what was not seen may be among them.
        self.doubted = False

    def take(self, records: Sequence[dict[str, Any]]) -> ComparedRecords:
        """The records that differ from what was loaded before."""
        if not records:
            return ComparedRecords([], 0)
        keys = self._hashed_keys([_column(records, name) for name in self._key])
        contents = _content_hashes(records)
        count = len(self._keys)
        if not count:
            self._fresh.append((keys, contents))
            return ComparedRecords(records, 0)
        places = pc.min_element_wise(pc.search_sorted(self._keys, keys), pa.scalar(count - 1, pa.uint64()))
        known = pc.equal(pc.take(self._keys, places), keys)
        same = pc.and_(known, pc.equal(pc.take(self._contents, places), contents))
        seen, stale = self._seen, self._stale
        for place in _numbers_of(pc.filter(places, known)):
            seen[place] = 1
        differs = pc.invert(same)
        changed = pc.indices_nonzero(differs).to_pylist()
        if changed:
            for place in _numbers_of(pc.filter(places, pc.and_(known, differs))):
                stale[place] = 1
            self._fresh.append((pc.filter(keys, differs), pc.filter(contents, differs)))
        # In the form in which they came: in columns, their types are the source's own.
        return ComparedRecords(chosen(records, differs.to_pylist()), len(records) - len(changed))

    def retry(self, records: Iterable[Any]) -> None:
        """Have these records, which were rejected, passed on again by the next pass."""
        held = [r for r in records if isinstance(r, dict)]
        if held:
            self._retry.append(self._hashed_keys([_column(held, name) for name in self._key]))

    def missing_keys(self, held: Callable[[], Iterable[Sequence[tuple[Any, ...]]]]) -> list[tuple[Any, ...]]:
        """The keys that the last pass saw and this one did not. Call it after the last record.

        Args:
            held: the keys in the warehouse, in batches; only called if a hash alone does not identify its key.
        """
        if 0 not in self._seen:
            return []
        unseen = pc.filter(self._keys, pa.array([seen == 0 for seen in self._seen], pa.bool_()))
        if self._numbers:
            return [(number,) for number in unseen.view(pa.int64()).to_pylist()]
        found = []
        for rows in held():
            mask = pc.is_in(_key_hashes(list(zip(*rows))), unseen)
            found += [rows[i] for i in pc.indices_nonzero(mask).to_pylist()]
        return found

    def hashes_to_keep(self) -> bytes | None:
        """What the next pass needs; None if there are too many records, or if keys are no longer all numbers."""
        keys, contents = self._keys, self._contents
        if self._fresh or 0 in self._seen:
            # Of what was not seen nothing stays, unless it may only have been unreadable: it is looked for again then.
            pairs = zip(self._seen, self._stale)
            stays = pa.array([(seen == 1 and stale == 0) or (seen == 0 and self.doubted) for seen, stale in pairs], pa.bool_())
            keys = pa.concat_arrays([pc.filter(keys, stays), *(k for k, _ in self._fresh)])
            contents = pa.concat_arrays([pc.filter(contents, stays), *(c for _, c in self._fresh)])
        if len(keys) > MOST_COMPARED:
            return None
        # This sort is stable, so that of a key that came twice the later content stands last; that one is kept.
        order = pc.array_sort_indices(keys)
        keys, contents = pc.take(keys, order), pc.take(contents, order)
        if len(keys) > 1:
            last = pa.concat_arrays([pc.not_equal(keys.slice(0, len(keys) - 1), keys.slice(1)), pa.array([True])])
            keys, contents = pc.filter(keys, last), pc.filter(contents, last)
        if self._retry:
            # With a content that no record has: it comes again, and is missed once it has gone.
            again = pc.is_in(keys, pa.concat_arrays(self._retry))
            contents = pc.if_else(again, pa.scalar(0, pa.uint64()), contents)
            if self._odd:
                stays = pc.invert(pc.and_(again, pc.is_in(keys, pa.concat_arrays(self._odd))))
                keys, contents = pc.filter(keys, stays), pc.filter(contents, stays)
        if self._odd and pc.any(pc.is_in(keys, pa.concat_arrays(self._odd))).as_py():
            return None
        return (_NUMBERS if self._numbers else _TEXTS) + _bytes(keys) + _bytes(contents)

    def _hashed_keys(self, columns: Sequence[Sequence[Any]]) -> pa.Array:
        whole = len(columns) == 1 and set(map(type, columns[0])) == {int}
        if self._numbers is None:
            self._numbers = whole
        if not self._numbers:
            return _key_hashes(columns)
        if whole:
            try:
                return pa.array(columns[0], pa.int64()).view(pa.uint64())
            except (OverflowError, pa.ArrowInvalid):
                pass
        plain = [type(v) is int and -(2**63) <= v < 2**63 for v in columns[0]]
        hashes = _key_hashes(columns)
        self._odd.append(pc.filter(hashes, pa.array([not p for p in plain], pa.bool_())))
        numbers = pa.array([v if p else 0 for v, p in zip(columns[0], plain)], pa.int64()).view(pa.uint64())
        return pc.if_else(pa.array(plain, pa.bool_()), numbers, hashes)


def _hashes(texts: Iterable[bytes]) -> pa.Array:
    # One after the other: a list of all the texts costs more to hold and to give back than hashing them.
    return pa.array(list(map(xxh3_64_intdigest, texts)), pa.uint64())


def _key_hashes(columns: Sequence[Sequence[Any]]) -> pa.Array:
    """Hashes of keys as text, the same for a record as for a row of the warehouse: a single whole number or text as it is, other keys as
    JSON.
    """
    if len(columns) == 1:
        types = set(map(type, columns[0]))
        if types <= {int, str}:
            return _hashes(_utf8(columns[0]))
        return _hashes(_utf8([v if type(v) in (int, str) else dump_lenient([v]) for v in columns[0]]))
    return _hashes(_utf8(map(dump_lenient, map(list, zip(*columns)))))


def _utf8(values: Iterable[Any]) -> Iterator[bytes]:
    return (str(v).encode("utf-8", "backslashreplace") for v in values)


def _content_hashes(records: Sequence[dict[str, Any]]) -> pa.Array:
    try:
        return _hashes(map(orjson.dumps, records))
    except TypeError:  # values that only our own writer knows
        return _hashes(map(_exact_text, records))


def _exact_text(record: Any) -> bytes:
    try:
        return orjson.dumps(record)
    except TypeError:
        return dump_lenient(record).encode()


def _column(records: Sequence[dict[str, Any]], name: str) -> list[Any]:
    try:
        return list(map(itemgetter(name), records))
    except KeyError:
        return [value_at(record, name) for record in records]


def _numbers_of(array: pa.Array) -> memoryview:
    """The values, half as dear to walk as by `to_pylist`."""
    return memoryview(_bytes(array)).cast("Q")


def _bytes(array: pa.Array) -> bytes:
    """The values alone, as 8 little-endian bytes each."""
    whole = pa.concat_arrays([array])  # without what a slice leaves before it
    start = whole.offset * 8
    return bytes(memoryview(whole.buffers()[1])[start : start + len(whole) * 8]) if len(whole) else b""


def comparer_for(
    feed: str, table: ResolvedTable, warehouse: Warehouse, state: TableState | None, change: Transition
) -> Comparer | None:  # fmt: skip
    """The comparer of a table; None if the table's changes are not found by comparison."""
    if table.by != "compare":
        return None
    saved = None
    if state and not change.reloads_children and _keys_are_plain(table, state):
        saved = warehouse.hashes(feed, table.name, state.version)
    return Comparer(table.key, saved)


def _keys_are_plain(table: ResolvedTable, state: TableState) -> bool:
    """Whether keys in the warehouse look as they do in records. If not, they cannot be recognised there, and everything is merged."""
    nodes = [state.structure.field(name) for name in table.key]
    plain = all(isinstance(node, ColumnShape) and node.kind in ("int64", "text") for node in nodes)
    return plain and not set(table.key) & set(table.shaping.cast)


def missing_keys_of(compare: Comparer, table: ResolvedTable, family: Family, warehouse: Warehouse) -> Sequence[tuple[Any, ...]]:
    """The keys of rows that the source no longer has; none if there was nothing to compare with."""
    if not compare.compared or compare.doubted:
        return ()
    current = "_rb_valid_until" if table.write == "versions" else None
    return compare.missing_keys(lambda: warehouse.keys(table.target, family.key, current=current))
