"""Reading a large table in ranges of a column: where they end, and where an interrupted run resumes."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from typing import Any

from ...records.position import SavedCursor
from ...sources.sql import Column, Database, Statement
from ...spec.times import format_time, parse_time

_DAY = timedelta(days=1)
Bound = int | date | datetime | str


@dataclass(frozen=True)
class RangeCheckpoint:
    """All rows below a bound have been read, or all rows if there is no bound.

    Attributes:
        then: where changes continue from once all rows are read; None if each run reads everything.
    """

    below: str | None
    then: SavedCursor | None

    def saved(self, column: str) -> SavedCursor:
        """The checkpoint as a saved cursor of the kind `ranges`.

        Args:
            column: the column of the ranges.
        """
        then = None if self.then is None else [self.then.kind, self.then.value, self.then.column]
        return SavedCursor("ranges", json.dumps({"below": self.below, "then": then}), None, column)

    @classmethod
    def of(cls, saved: SavedCursor | None, column: str) -> RangeCheckpoint | None:
        """The checkpoint of a saved cursor; None if the cursor is not in the middle of ranges of that column."""
        if saved is None or saved.kind != "ranges" or saved.column != column:
            return None
        found = json.loads(saved.value)
        then = found["then"] and SavedCursor(found["then"][0], found["then"][1], None, found["then"][2])
        return cls(found["below"], then)


def bounds(database: Database, source: str, column: Column, count: int, done: Bound | None, blocks: int) -> list[Bound]:
    """Where one range ends and the next begins, ascending: evenly spaced in value for numbers and times, in rows for text, in blocks for a
    physical position.

    Args:
        done: rows below it have been read.
        blocks: the size of the table.
    """
    if column.declared == "tid":
        # What a snapshot sees of it lies before its end by now, or the last range has it.
        first = 0 if done is None else int(str(done).strip("(").split(",")[0])
        cuts = {first + max(blocks - first, 0) * n // count for n in range(1, count)}
        return [f"({block},0)" for block in sorted(cuts - {first})]
    name = database.quote(column.name)
    values = {} if done is None else {"done": database.bound(source, column, done)}
    above = "" if done is None else f" where {name} > :done"
    read = column.select.replace("{}", name)
    if column.kind in ("text", "uuid"):
        every = f"select {name}, row_number() over (order by {name}) as place, count(*) over () as many from {source}{above}"
        step = database.share_of("many", int(count))
        text = f"select {read} as {name} from ({every}) as numbered where mod(place, {step}) = 0 order by place"
        found = [value for table in database.read(Statement(text, (column,), values)) for value in table.column(0).to_pylist()]
        return list(dict.fromkeys(found[: count - 1]))
    known, last = _within_years(database, source, column)
    condition = " and ".join(part for part in (above.removeprefix(" where "), known) if part)
    text = f"select min({read}) as low, max({read}) as high from {source}{f' where {condition}' if condition else ''}"
    (low, high), *_ = [
        (table.column(0)[0].as_py(), table.column(1)[0].as_py())
        for table in database.read(Statement(text, (_as(column, "low"), _as(column, "high")), values | last))
    ]
    if low is None:
        return []
    span = high - low
    if isinstance(span, timedelta) and not isinstance(low, datetime):
        cut = {low + (span * n // count) // _DAY * _DAY for n in range(1, count)}
    else:
        cut = {low + span * n // count for n in range(1, count)}
    return sorted(value for value in cut if value > low)


def spans(
    database: Database, source: str, column: Column, count: int, midst: RangeCheckpoint, *, is_table: bool
) -> Iterator[tuple[SavedCursor, tuple[Bound | None, Bound | None]]]:
    """[(checkpoint once a range is read, (its beginning, its end))], for everything that is not read yet."""
    blocks = database.hold(source) if is_table else 0
    done = None if midst.below is None else as_bound(midst.below, column)
    ends = [done, *bounds(database, source, column, count, done, blocks)]
    for begin, end in zip(ends, [*ends[1:], None]):
        yield RangeCheckpoint(None if end is None else as_text(end), midst.then).saved(column.name), (begin, end)


def as_text(bound: Bound) -> str:
    """A bound as it is saved; `as_bound` reads it."""
    if isinstance(bound, datetime):
        return format_time(bound)
    return bound.isoformat() if isinstance(bound, date) else str(bound)


def as_bound(text: str, column: Column) -> Bound:
    """A saved bound, as a value of its column."""
    if column.kind == "int64":
        return int(text)
    if column.kind == "timestamp":
        return parse_time(text)
    return date.fromisoformat(text) if column.kind == "date" else text


def newest(database: Database, source: str, columns: Sequence[Column]) -> Any:
    """The greatest value of these columns at present; None without rows. A day counts as the instant at which it begins."""
    found = []
    for column in columns:
        name = database.quote(column.name)
        read = column.select.replace("{}", f"max({name})")
        known, last = _within_years(database, source, column)
        text = f"select {read} as newest from {source}{f' where {known}' if known else ''}"
        for table in database.read(Statement(text, (_as(column, "newest"),), last)):
            value = table.column(0)[0].as_py()
            if isinstance(value, date) and not isinstance(value, datetime):
                value = datetime(value.year, value.month, value.day, tzinfo=UTC)
            found += [] if value is None else [value]
    return max(found, default=None)


def _within_years(database: Database, source: str, column: Column) -> tuple[str, dict[str, Any]]:
    """(a condition, its values) that leaves out times that cannot be bounds, for databases that have such times."""
    if not database.has_endless_times or column.kind not in ("timestamp", "date"):
        return "", {}
    ends = {"year_first": datetime(1, 1, 2, tzinfo=UTC), "year_last": datetime(9999, 12, 30, tzinfo=UTC)}
    name = database.quote(column.name)
    values = {key: database.bound(source, column, value) for key, value in ends.items()}
    return f"{name} >= :year_first and {name} <= :year_last", values


def _as(column: Column, name: str) -> Column:
    return Column(name, column.declared, column.kind, "{}", True, column.whole, column.fraction)
