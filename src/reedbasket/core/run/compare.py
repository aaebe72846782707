"""Finding changes by comparing with what was loaded: for sources that offer nothing else.

Everything is read; of each record two 64-bit hashes are kept in the warehouse, of its key and of its content. The next run
passes on only records that are new or changed, and knows the keys that are gone. Whole batches are hashed and looked up at
once, in DuckDB and Arrow; a record is touched in Python only to write it as JSON.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

import orjson
import pyarrow as pa
import pyarrow.compute as pc

from ..shape.exact_json import dump_lenient
from ..shape.expressions import open_engine

# 16 bytes a record, and one while comparing: 136 MB. Beyond it nothing is kept, and the merge sorts out what is unchanged.
MOST_COMPARED = 8_000_000
# DuckDB promises its hash for one version only. What this text hashes to is kept in front; where it differs, all is compared anew.
_PROBE = "reed basket"


@dataclass(frozen=True)
class Compared:
    """records: new or changed. unchanged: how many were neither."""

    records: list[dict[str, Any]]
    unchanged: int


class Comparer:
    """One pass over one table. saved: what the last pass left, None for none.

    Two keys of one hash (a chance of 3 in 10^8 among a million) are told apart by their content, and merged again each time.
    """

    def __init__(self, key: Sequence[str], saved: bytes | None) -> None:
        self._key = list(key)
        self._engine = open_engine()
        self._probe = int(self._hashed(pa.array([_PROBE]))[0][0].as_py()).to_bytes(8, "little")
        if saved is not None and saved[:8] != self._probe:
            saved = None
        held = pa.py_buffer((saved or b"")[8:])
        count = held.size // 16
        self._keys = pa.Array.from_buffers(pa.uint64(), count, [None, held.slice(0, 8 * count)])
        self._contents = pa.Array.from_buffers(pa.uint64(), count, [None, held.slice(8 * count, 8 * count)])
        self._seen = bytearray(count)
        self._stale = bytearray(count)
        self._fresh: list[tuple[pa.Array, pa.Array]] = []
        self._retry: list[pa.Array] = []
        self.compared = saved is not None

    def take(self, records: list[dict[str, Any]]) -> Compared:
        if not records:
            return Compared([], 0)
        if len(self._key) == 1:
            name = self._key[0]
            texts = _texts([(r.get(name),) for r in records])
        else:
            texts = _texts([[r.get(k) for k in self._key] for r in records])
        keys, contents = self._hashed(texts, pa.array(list(map(_text, records)), pa.binary()))
        count = len(self._keys)
        if not count:
            self._fresh.append((keys, contents))
            return Compared(records, 0)
        places = pc.min_element_wise(pc.search_sorted(self._keys, keys), pa.scalar(count - 1, pa.uint64()))
        known = pc.equal(pc.take(self._keys, places), keys)
        same = pc.and_(known, pc.equal(pc.take(self._contents, places), contents))
        seen, stale = self._seen, self._stale
        for place in pc.filter(places, known).to_pylist():
            seen[place] = 1
        differs = pc.invert(same)
        changed = pc.indices_nonzero(differs).to_pylist()
        if changed:
            for place in pc.filter(places, pc.and_(known, differs)).to_pylist():
                stale[place] = 1
            self._fresh.append((pc.filter(keys, differs), pc.filter(contents, differs)))
        return Compared([records[i] for i in changed], len(records) - len(changed))

    def retry(self, records: Iterable[Any]) -> None:
        """Records that were passed on and rejected: they will be passed on again."""
        rows = [[r.get(k) for k in self._key] for r in records if isinstance(r, dict)]
        if rows:
            self._retry.append(self._hashed(_texts(rows))[0])

    @property
    def any_gone(self) -> bool:
        """Whether the last pass showed keys that this one did not. To be asked after the last record."""
        return 0 in self._seen

    def gone_among(self, rows: Sequence[tuple[Any, ...]]) -> list[tuple[Any, ...]]:
        """Of rows of key values those whose keys are gone."""
        unseen = pc.filter(self._keys, pa.array([not seen for seen in self._seen]))
        mask = pc.is_in(self._hashed(_texts(rows))[0], unseen)
        return [rows[i] for i in pc.indices_nonzero(mask).to_pylist()]

    def kept(self) -> bytes | None:
        """What the next pass needs; None where the records are too many."""
        stays = pa.array([seen == 1 and stale == 0 for seen, stale in zip(self._seen, self._stale)], pa.bool_())
        keys = pa.chunked_array([pc.filter(self._keys, stays), *(k for k, _ in self._fresh)], pa.uint64())
        contents = pa.chunked_array([pc.filter(self._contents, stays), *(c for _, c in self._fresh)], pa.uint64())
        if len(keys) > MOST_COMPARED:
            return None
        # Stable, so that of a key that came twice the later content stands last; that one is kept.
        order = pc.sort_indices(
            pa.table({"k": keys, "n": pa.array(range(len(keys)))}), [("k", "ascending"), ("n", "ascending")]
        )
        keys, contents = pc.take(keys, order).combine_chunks(), pc.take(contents, order).combine_chunks()
        if len(keys) > 1:
            last = pa.concat_arrays([pc.not_equal(keys.slice(0, len(keys) - 1), keys.slice(1)), pa.array([True])])
            keys, contents = pc.filter(keys, last), pc.filter(contents, last)
        if self._retry:
            stays = pc.invert(pc.is_in(keys, pa.concat_arrays(self._retry)))
            keys, contents = pc.filter(keys, stays), pc.filter(contents, stays)
        return self._probe + _bytes(keys) + _bytes(contents)

    def _hashed(self, *columns: pa.Array) -> list[pa.Array]:
        """Each column's hashes; all in one question, since a question costs as much as hashing a thousand texts."""
        names = [f"c{n}" for n in range(len(columns))]
        self._engine.register("batch", pa.table(dict(zip(names, columns))))
        found = self._engine.sql(f"select {', '.join(f'hash({n})' for n in names)} from batch").to_arrow_table()
        self._engine.unregister("batch")
        return [pa.concat_arrays(column.chunks) if column.num_chunks != 1 else column.chunk(0) for column in found.columns]


def _texts(rows: Sequence[Sequence[Any]]) -> pa.Array:
    """Keys as text, the same from a record as from the warehouse: whole numbers and text as they are, others as JSON."""
    if rows and len(rows[0]) == 1:
        values = [row[0] for row in rows]
        types = set(map(type, values))
        if types == {int}:
            try:
                return pa.array(values, pa.int64()).cast(pa.string())
            except (OverflowError, pa.ArrowInvalid):
                pass
        elif types == {str}:
            try:
                return pa.array(values, pa.string())
            except UnicodeEncodeError:
                pass
    return pa.array([_key_text(row) for row in rows], pa.string())


def _key_text(row: Sequence[Any]) -> str:
    if len(row) == 1 and type(row[0]) in (int, str):
        return str(row[0]).encode("utf-8", "backslashreplace").decode()
    return dump_lenient(list(row))


def _text(record: Any) -> bytes:
    try:
        return orjson.dumps(record)
    except TypeError:
        return dump_lenient(record).encode()


def _bytes(array: pa.Array) -> bytes:
    """The values alone, as 8 little-endian bytes each."""
    whole = pa.concat_arrays([array])  # without what a slice leaves before it
    start = whole.offset * 8
    return bytes(memoryview(whole.buffers()[1])[start : start + len(whole) * 8]) if len(whole) else b""
