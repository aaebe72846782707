"""How far a table has been read, by a cursor.

The lower bound sent to the source is the saved value minus the overlap, inclusive, so that records with equal values are never lost at the
boundary. It is written as the source writes its times, because many sources compare them as text. Records that the source sends again are
recognised by their content, as many times as they were loaded, and skipped. The upper bound of a time cursor is the start of the run:
later records are left for the next run, so that a source that changes faster than it is read still comes to an end. Records without a
value are loaded, and move nothing.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from ..records.column_records import ColumnRecords, chosen, value_at
from ..records.position import SavedCursor
from ..shaping.batch import Reject
from ..spec.http import CursorRule
from ..spec.times import EPOCHS, TimeAsWritten, finest_step, format_time, read_time, step_of, write_like, write_time
from .digest import DIGEST_BYTES, digest

_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
# A merge recognises repeated rows by itself; it keeps digests only to say 'nothing new' sooner, and so not beyond this.
MOST_SEEN_FOR_MERGE = 50_000
# Records held to be digested later. Past this many they are digested at once, so that memory stays bounded.
_MOST_HELD = 5_000
# The same of records in columns, by the bodies they would be made from.
_MOST_HELD_BYTES = 16 * 1024 * 1024


@dataclass(frozen=True)
class Taken:
    """What is new in a batch.

    Attributes:
        repeated: how many were recognised as loaded before, or are older than the cursor, if the source cannot be asked for what is newer.
        held_back: how many are beyond the upper bound.
    """

    records: Sequence[dict[str, Any]]
    repeated: int
    held_back: int
    rejects: list[Reject]


class CursorTracker:
    """One pass over one table. Values are microseconds since 1970 (time), numbers, or text, and are compared as such."""

    def __init__(  # noqa: PLR0913 - each by its name
        self,
        rule: CursorRule,
        saved: SavedCursor | None,
        start: str | None,
        until: datetime,
        *,
        keep_all_seen: bool,
        end: str | None = None,
        forms: Sequence[str] = (),
        columns: Sequence[str] = (),
    ) -> None:
        """Prepare.

        Args:
            columns: if the cursor is the greatest of several columns.
            start, end: of the rule, filled in.
            until: when the run began.
            forms: the formats in which the request writes the lower bound; '' for the source's own.
        """
        self._rule = rule
        self.column = rule.column
        # Stands for the records beyond the upper bound that were met, whatever their order.
        self.beyond = 0
        self._columns = tuple(columns) or (rule.column,)
        # A time as the source writes it, the longest met; what was saved, or is to begin with, until one is met.
        self._sample = (saved.value if saved else start) if rule.type == "time" and rule.format is None else None
        self._met_sample = False
        self._first_sample = self._sample
        self._forms = forms
        self._overlap = int(rule.overlap / timedelta(microseconds=1))
        self._keep_all_seen = keep_all_seen
        self._saved = self._parse(saved.value, None) if saved else None
        self._start = self._parse(start, None) if start is not None else None
        self._until: Any = _micros(until) if rule.type == "time" else None
        if end is not None:
            last = self._parse(end, None)
            self._until = last if self._until is None else min(self._until, last)
        self._old = Counter(_unpack(saved.seen)) if saved and saved.seen else Counter()
        self.highest: Any = self._saved
        self.in_order = rule.sorted
        self._last: Any = None
        self._tail: list[tuple[Sequence[Any], Sequence[Any]]] = []  # (values, records or their digests)
        self._too_many = False

    @property
    def request_from(self) -> Any:
        """The value of {cursor.from}: datetime, number or text; None for the first pass without a start. If the API leaves out records
        that are equal to it, it is one step less, so that they come all the same.
        """
        floor = self._floor
        if floor is not None and self._rule.bound == "exclusive" and self._rule.type != "text":
            if self._rule.type == "time":
                floor -= self._step()
            else:
                floor = floor - 1 if type(floor) is int else math.nextafter(floor, -math.inf)
        return self._show(floor)

    @property
    def request_until(self) -> Any:
        """The value of {cursor.until}."""
        return self._show(self._until)

    def _step(self) -> int:
        """Microseconds: the smallest step that the request can show of a time."""
        own = self._rule.format
        shown = [finest_step(form or own or "") if form or own else step_of(self._sample or "") for form in self._forms]
        return int(max(shown, default=timedelta(microseconds=1)) / timedelta(microseconds=1))

    @property
    def format_change(self) -> str | None:
        """What to say if the first request was written in a format other than the source's, so that a source which compares text may have
        left out records of that day.
        """
        met, start = self._sample, self._start
        if self._saved is not None or start is None or not self._met_sample or met is None or self._rule.format is not None:
            return None
        sent = write_like(self._show(start), self._first_sample or "")
        if sent[10:11] == met[10:11]:
            return None
        return (
            f"the first request asked for records from {sent!r} on, but the source writes times as {met!r}: if it compares them as text, "
            "some records of that day are missing; write `from` in the source's format"
        )

    @property
    def _floor(self) -> Any:
        """Records from here on are taken."""
        if self._saved is None:
            return self._start
        return self._saved - self._overlap if self._overlap else self._saved

    @property
    def from_text(self) -> str | None:
        """Where it reads from, as people read it; None for the beginning."""
        return _text(self._show(self._floor))

    def take(self, records: Sequence[dict[str, Any]]) -> Taken:
        """Select what is new."""
        if not records:
            return Taken([], 0, 0, [])
        values, rejects = self._values(records)
        if rejects:
            bad = {r.index for r in rejects}
            records = chosen(records, [i not in bad for i in range(len(records))])
            values = [v for i, v in enumerate(values) if i not in bad]
        known = [v for v in values if v is not None] if None in values else values
        held_back = 0
        if self._until is not None and known and max(known) >= self._until:
            keep = [v is None or v < self._until for v in values]
            held_back = keep.count(False)
            for record in chosen(records, [not kept for kept in keep]):
                self.beyond ^= int.from_bytes(digest(record), "little")
            records, values = chosen(records, keep), _filter(values, keep)
            known = [v for v in values if v is not None]
        older = 0
        floor = self._floor if self._rule.bound == "none" else None
        if floor is not None and known and min(known) < floor:
            # The API cannot be asked for less than all; what is older was taken before, or is not wanted.
            keep = [v is None or v >= floor for v in values]
            older = keep.count(False)
            records, values = chosen(records, keep), _filter(values, keep)
            known = [v for v in values if v is not None]
        # The tail needs the repeated ones too: they stand in the overlap of the next position as well.
        self._follow(values, records, known)
        repeated = 0
        if self._old and self._saved is not None and known and min(known) <= self._saved:
            low = [v is not None and v <= self._saved for v in values]
            taken_before = map(self._was_taken, chosen(records, low))
            keep = [not (below and next(taken_before)) for below in low]
            repeated = keep.count(False)
            records = chosen(records, keep)
        return Taken(records, repeated + older, held_back, rejects)

    def unreadable(self, records: Sequence[dict[str, Any]]) -> list[Reject]:
        """The records whose cursor cannot be read, as rejects. The position does not move."""
        return self._values(records)[1]

    def position(self) -> SavedCursor | None:
        """The cursor to commit with everything passed on so far; None if no record had a value."""
        if self.highest is None:
            return None
        floor = self.highest - self._overlap if self._overlap else self.highest
        digests: list[bytes] | None = None
        if not self._too_many:
            digests = []
            for values, items in self._tail:
                digests += [
                    i if isinstance(i, bytes) else digest(i) for v, i in zip(values, items) if v is not None and v >= floor
                ]
            if not self._keep_all_seen and len(digests) > MOST_SEEN_FOR_MERGE:
                digests = None
        seen = None if digests is None else b"".join(digests)
        value = self._show(self.highest)
        text = write_like(value, self._sample) if self._sample is not None else None
        # A writing too coarse for the value (of the start, or of whole seconds saved before) would stand below what was taken.
        if text is None or self._parse(text, None) != self.highest:
            text = _text(value)
        return SavedCursor(self._rule.type, text or "", seen, self._rule.column)

    def _was_taken(self, record: dict[str, Any]) -> bool:
        mark = digest(record)
        if self._old[mark] > 0:
            self._old[mark] -= 1
            return True
        return False

    def _follow(self, values: Sequence[Any], records: Sequence[Any], known: Sequence[Any]) -> None:
        if not known:
            return
        if self.in_order:
            self.in_order = len(known) == len(values) and (self._last is None or known[0] >= self._last)
            self.in_order = self.in_order and list(known) == sorted(known)
            self._last = known[-1]
        high = max(known)
        if self.highest is None or high > self.highest:
            self.highest = high
        floor = self.highest - self._overlap if self._overlap else self.highest
        self._tail = [part for part in self._tail if max(v for v in part[0] if v is not None) >= floor]
        if high < floor or self._too_many:
            return
        if min(known) < floor or len(known) < len(values):
            keep = [v is not None and v >= floor for v in values]
            values, records = _filter(list(values), keep), chosen(records, keep)
        self._tail.append((values, records))
        held = sum(len(v) for v, items in self._tail if not _digested(items))
        held_bytes = sum(items.held_bytes for _, items in self._tail if isinstance(items, ColumnRecords))
        if held > _MOST_HELD or held_bytes > _MOST_HELD_BYTES:
            if not self._keep_all_seen and sum(len(v) for v, _ in self._tail) > MOST_SEEN_FOR_MERGE:
                self._tail, self._too_many = [], True
                return
            self._tail = [(v, items if _digested(items) else [digest(r) for r in items]) for v, items in self._tail]

    def _values(self, records: Sequence[dict[str, Any]]) -> tuple[list[Any], list[Reject]]:
        column = self._rule.column
        if len(self._columns) > 1:
            found = [self._of_column(records, name) for name in self._columns]
            together = [[v for v in members if v is not None] for members in zip(*found)]
            return [max(members, default=None) for members in together], []
        raw: Any = records.column(column) if isinstance(records, ColumnRecords) else None
        whole = self._rule.type == "number" and raw is not None and pa.types.is_integer(raw.type)
        if raw is not None and (whole or pa.types.is_temporal(raw.type)):
            return self._of_column(records, column), []
        if raw is None:
            raw = [value_at(record, column) for record in records]
        elif self._rule.type != "time" or self._rule.format is not None:
            raw = raw.to_pylist()
        if self._rule.type == "time":
            if self._rule.format is None:
                self._meet(raw)
            fast = _micros_of(raw, self._rule.format)
            if fast is not None:
                return fast, []
        values: list[Any] = []
        rejects: list[Reject] = []
        for index, value in enumerate(raw if isinstance(raw, list) else raw.to_pylist()):
            try:
                values.append(None if value is None else self._parse(value, self._rule.format))
            except ValueError:
                values.append(None)
                message = f"found {value!r} in the cursor's column, which is not a {self._rule.type}"
                rejects.append(Reject(index, "cursor.unreadable", message, column, records[index]))
        return values, rejects

    def _of_column(self, records: Sequence[dict[str, Any]], name: str) -> list[Any]:
        """Of a database's column, whose type is known."""
        assert isinstance(records, ColumnRecords)
        values = records.column(name)
        assert values is not None
        if pa.types.is_temporal(values.type):
            values = values.cast(pa.timestamp("us")).cast(pa.int64())
        listed: list[Any] = values.to_pylist()
        return listed

    def _parse(self, value: Any, form: str | None) -> Any:
        """form: how the source writes times; None for our own writing."""
        if self._rule.type == "time":
            return _micros(read_time(value, form))
        if self._rule.type == "number":
            if isinstance(value, bool):
                raise ValueError(value)
            number = float(value)
            return int(value) if number.is_integer() and "." not in str(value) and "e" not in str(value) else number
        if not isinstance(value, str):
            raise ValueError(value)
        return value

    def _show(self, value: Any) -> Any:
        if value is None or self._rule.type != "time":
            return value
        at = _EPOCH + timedelta(microseconds=value)
        if self._rule.format is not None:
            return TimeAsWritten.of(at, write_time(at, self._rule.format))
        return TimeAsWritten.of(at, write_like(at, self._sample)) if self._sample is not None else at

    def _meet(self, raw: Any) -> None:
        """Texts of times: how they are written. The longest is kept, which shows the finest step."""
        if isinstance(raw, pa.ChunkedArray):
            if not pa.types.is_string(raw.type) or raw.null_count == len(raw):
                return
            place = pc.index(pc.utf8_length(raw), pc.max(pc.utf8_length(raw))).as_py()
            longest = raw[place].as_py()
        else:
            longest = max((value for value in raw if type(value) is str), key=len, default=None)
        if longest is not None and (not self._met_sample or len(longest) > len(self._sample or "")):
            self._sample, self._met_sample = longest, True


def saved_at(rule: CursorRule, value: Any) -> SavedCursor:
    """A position at a value, without knowledge of the records there."""
    return SavedCursor(rule.type, _text(value) or "", None, rule.column)


def _unpack(seen: bytes) -> list[bytes]:
    return [seen[i : i + DIGEST_BYTES] for i in range(0, len(seen), DIGEST_BYTES)]


def _digested(items: Sequence[Any]) -> bool:
    return isinstance(items, list) and bool(items) and isinstance(items[0], bytes)


def _filter(items: list[Any], keep: list[bool]) -> list[Any]:
    return [item for item, ok in zip(items, keep) if ok]


def _micros(value: datetime) -> int:
    return (value - _EPOCH) // timedelta(microseconds=1)


def _micros_of(raw: Any, form: str | None) -> list[Any] | None:
    """All values at once; None if one of them needs a closer look (a time without a zone, or not a time)."""
    if form in EPOCHS and set(map(type, raw)) == {int}:
        factor = 1_000_000 // EPOCHS[form]
        return [value * factor for value in raw]
    if form is not None:
        return None
    try:
        array = raw if isinstance(raw, pa.ChunkedArray) else pa.array(raw, pa.string())
        found: list[Any] = pc.cast(array, pa.timestamp("us", "UTC")).cast(pa.int64()).to_pylist()
        return found
    except (pa.ArrowInvalid, pa.ArrowTypeError, UnicodeEncodeError):
        return None


def _text(value: Any) -> str | None:
    if value is None:
        return None
    return format_time(value) if isinstance(value, datetime) else str(value)
