"""Messages of PostgreSQL's built-in output plugin, version 1 of its protocol, many at a time.

Source: PostgreSQL documentation, 55.9 "Logical Replication Message Formats". Positions are LSNs as integers.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ...records.change_records import Logged
from ..sql.slices import Bytes, Flags, Numbers, as_text, big_endian, bytes_of, cut

_BEGIN, _RELATION, _INSERT, _UPDATE, _DELETE, _TRUNCATE = b"BRIUDT"
_OLD_KEY, _OLD_ROW, _NEW = b"KON"
_TEXT, _UNCHANGED = b"tu"


@dataclass(frozen=True)
class RelationColumn:
    """A column as the log describes it."""

    name: str
    oid: int
    modifier: int


@dataclass(frozen=True)
class Relation:
    """A table as it is from here on in the log.

    Attributes:
        identity: what the log contains of old rows, as in pg_class.relreplident.
    """

    oid: int
    identity: str
    columns: tuple[RelationColumn, ...]


@dataclass(frozen=True)
class Transactions:
    """The transaction of each message: where in the log it was committed, and the 32 bits of its number."""

    lsn: Numbers
    xid: Numbers


class Begun:
    """Follows the beginnings of transactions from batch to batch.

    Attributes:
        oldest: when the first was committed, microseconds since 2000.
    """

    def __init__(self) -> None:
        self._lsn = self._xid = 0
        self.oldest: int | None = None
        self.count = 0

    def of(self, buffer: Bytes, begin: Numbers, kinds: Bytes) -> Transactions:
        """The transaction of each message."""
        is_begin = kinds == _BEGIN
        at = begin[:-1][is_begin]
        lsn, xid = big_endian(buffer, at + 1, 8), big_endian(buffer, at + 17, 4)
        if self.oldest is None and len(at):
            self.oldest = int(big_endian(buffer, at[:1] + 9, 8)[0])
        self.count += len(at)
        nth = np.cumsum(is_begin)
        lsns, xids = np.concatenate([[self._lsn], lsn]), np.concatenate([[self._xid], xid])
        self._lsn, self._xid = int(lsns[-1]), int(xids[-1])
        return Transactions(lsns[nth], xids[nth])


def tables_of(buffer: Bytes, begin: Numbers, kinds: Bytes) -> dict[int, Flags]:
    """{oid: which messages are about that table}; a message that truncates several tables is about each of them."""
    about = (kinds == _RELATION) | (kinds == _INSERT) | (kinds == _UPDATE) | (kinds == _DELETE)
    oids = np.zeros(len(kinds), np.int64)
    oids[about] = big_endian(buffer, begin[:-1][about] + 1, 4)
    found: dict[int, Flags] = {int(oid): oids == oid for oid in np.unique(oids[about])}
    for place in np.flatnonzero(kinds == _TRUNCATE):
        message = buffer[begin[place] : begin[place + 1]].tobytes()
        (many,) = struct.unpack_from(">i", message, 1)
        for oid in struct.unpack_from(f">{many}I", message, 6):
            found.setdefault(oid, np.zeros(len(kinds), np.bool_))[place] = True
    return found


def kinds_of(buffer: Bytes, begin: Numbers) -> Bytes:
    """The letter that tells each message's kind."""
    return buffer[begin[:-1]]


@dataclass(frozen=True)
class Rows:
    """Changes of one table, in order: {column: its text}.

    Attributes:
        logged: by position.
        truncated: before the first of these.
        messages: how many there were.
    """

    relation: Relation
    columns: dict[str, pa.Array]
    logged: Logged
    truncated: bool
    messages: int


class TableDecoder:
    """Decodes the messages of one table.

    Args:
        wanted: whether a column is to be read.
        key: the columns of the feed's key.
    """

    def __init__(self, wanted: Callable[[str], bool], key: Sequence[str]) -> None:
        self._wanted = wanted
        self._key = list(key)
        self._relation: Relation | None = None
        self._emptied = False

    def rows(self, messages: pa.Array) -> Iterator[Rows]:
        """The changes in some messages; a new batch begins with each change of the table's structure."""
        buffer, begin = bytes_of(messages)
        kinds = kinds_of(buffer, begin)
        first = 0
        for place in [*np.flatnonzero((kinds == _RELATION) | (kinds == _TRUNCATE)), len(kinds)]:
            if place > first:
                yield self._segment(buffer, begin[first:place], kinds[first:place])
            if place < len(kinds) and kinds[place] == _TRUNCATE:
                self._emptied = True
            elif place < len(kinds):
                self._relation = _relation(buffer[begin[place] : begin[place + 1]].tobytes())
            first = int(place) + 1
        if self._emptied and self._relation is not None:
            yield self._empty(self._relation)

    def _empty(self, relation: Relation) -> Rows:
        columns = {c.name: pa.array([], pa.string()) for c in relation.columns if self._wanted(c.name)}
        self._emptied = False
        return Rows(relation, columns, Logged([], {}), True, 0)

    def _segment(self, buffer: Bytes, begin: Numbers, kinds: Bytes) -> Rows:
        relation, truncated = self._relation, self._emptied
        assert relation is not None, "a change came before the structure of its table"
        self._emptied = False
        many = len(relation.columns)
        # Behind the table's number stands what follows: the new row at once, or first what is told of the old one.
        first = buffer[begin + 5]
        has_old = (kinds == _DELETE) | ((kinds == _UPDATE) & (first != _NEW))
        has_new = kinds != _DELETE
        old_start = begin + 6
        new_start = np.where(has_old, 0, begin + 6)
        both = has_old & has_new
        if both.any():
            new_start[both] = _behind(buffer, old_start[both], many) + 1
        # One entry a row: where there are two, the old one first.
        count = has_old.astype(np.int64) + has_new
        entry = np.cumsum(count) - count
        starts = np.zeros(int(count.sum()), np.int64)
        gone = np.zeros(len(starts), np.bool_)
        starts[entry[has_old]] = old_start[has_old]
        gone[entry[has_old]] = True
        starts[(entry + has_old)[has_new]] = new_start[has_new]
        full = np.zeros(len(starts), np.bool_)
        full[entry[both & (first == _OLD_ROW)]] = True
        columns, unchanged = self._columns(relation, buffer, starts)
        return self._settled(relation, columns, unchanged, gone, entry[both], full, truncated, len(kinds))

    def _columns(self, relation: Relation, buffer: Bytes, starts: Numbers) -> tuple[dict[str, pa.Array], dict[str, Flags]]:
        at = starts + 2
        columns: dict[str, pa.Array] = {}
        unchanged: dict[str, Flags] = {}
        for column in relation.columns:
            kind = buffer[at]
            told = kind == _TEXT
            lengths = np.zeros(len(at), np.int64)
            lengths[told] = big_endian(buffer, at[told] + 1, 4)
            if self._wanted(column.name):
                columns[column.name] = as_text(cut(buffer, at + 5, lengths, told))
                same = kind == _UNCHANGED
                if same.any():
                    unchanged[column.name] = same
            at = at + np.where(told, lengths + 5, 1)
        return columns, unchanged

    def _settled(  # noqa: PLR0913 - a part of what is settled each
        self,
        relation: Relation,
        columns: dict[str, pa.Array],
        unchanged: dict[str, Flags],
        gone: Flags,
        pairs: Numbers,
        full: Flags,
        truncated: bool,
        messages: int,
    ) -> Rows:
        """The changes of one batch.

        Args:
            pairs: positions of old rows that are followed by a new one.
            full: rows that have every value.
        """
        kept: dict[int, tuple[str, ...]] = {}
        for name, same in unchanged.items():
            told = same.copy()
            told[1:] &= full[:-1]  # the old row, just before, tells it
            told[0] = False
            if told.any():
                places = np.arange(len(same)) - told
                columns[name] = columns[name].take(pa.array(places))
            for place in np.flatnonzero(same & ~told):
                kept[int(place)] = (*kept.get(int(place), ()), name)
        moved: frozenset[int] = frozenset()
        if len(pairs):
            moves = self._moves(columns, pairs)
            moved = frozenset((pairs[moves] + 1).tolist())
            keep = np.ones(len(gone), np.bool_)
            keep[pairs[~moves]] = False
            if not keep.all():
                chosen = pa.array(keep)
                columns = {name: values.filter(chosen) for name, values in columns.items()}
                return Rows(
                    relation, columns, Logged(gone.tolist(), kept, moved).filter(keep.tolist()), truncated, messages
                )  # fmt: skip
        return Rows(relation, columns, Logged(gone.tolist(), kept, moved), truncated, messages)

    def _moves(self, columns: dict[str, pa.Array], pairs: Numbers) -> Flags:
        """Which pairs of an old and a new row differ in their key."""
        old, new = pa.array(pairs), pa.array(pairs + 1)
        differ: Any = np.zeros(len(pairs), np.bool_)
        for name in self._key:
            same = pc.equal(columns[name].take(old), columns[name].take(new))
            differ |= ~np.asarray(pc.fill_null(same, False))
        return differ  # type: ignore[no-any-return]


def _behind(buffer: Bytes, starts: Numbers, many: int) -> Numbers:
    """Where rows of so many columns end."""
    at = starts + 2
    for _ in range(many):
        told = buffer[at] == _TEXT
        lengths = np.zeros(len(at), np.int64)
        lengths[told] = big_endian(buffer, at[told] + 1, 4)
        at = at + np.where(told, lengths + 5, 1)
    return at


def _relation(message: bytes) -> Relation:
    (oid,) = struct.unpack_from(">I", message, 1)
    at = message.index(b"\0", message.index(b"\0", 5) + 1) + 1
    identity, many = chr(message[at]), struct.unpack_from(">h", message, at + 1)[0]
    at += 3
    columns = []
    for _ in range(many):
        end = message.index(b"\0", at + 1)
        kind, modifier = struct.unpack_from(">Ii", message, end + 1)
        columns.append(RelationColumn(message[at + 1 : end].decode(), kind, modifier))
        at = end + 9
    return Relation(oid, identity, tuple(columns))
