"""What a source truly holds: records with versions, and what happens to them. Imports nothing of the product."""

from __future__ import annotations

import random
from copy import deepcopy
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from decimal import Decimal
from typing import Any

BEGIN = datetime(2026, 3, 1, 6, 0, tzinfo=UTC)
OVERLAP = timedelta(minutes=10)

# How a source writes times. Those of text compare as the instants do, where all are written alike.
WRITINGS = ("z", "z_micro", "z_milli", "z_mixed", "offset", "space", "naive", "epoch", "epoch_ms", "day_first")
# Microseconds: what a writing can tell apart.
FINEST = {"z": 1_000_000, "z_milli": 1000, "z_mixed": 1000, "epoch": 1_000_000, "epoch_ms": 1000, "offset": 1_000_000}
FINEST["day_first"] = 1_000_000
NAMES = ["Osier Quay", 'Eel "stairs"', "Tansy, Reach", "Withybank\nNorth", "", "  Heron ", "Long; Sluice", "Ølstrand ✓"]
NAMES += ["\\u0000 Reed", "nan", "NULL", "007"]


def write(at: datetime, writing: str) -> str | int:
    if writing == "epoch":
        return int(at.timestamp())
    if writing == "epoch_ms":
        return int(at.timestamp() * 1000)
    plain = at.strftime("%Y-%m-%dT%H:%M:%S")
    if writing == "z_micro":
        return f"{plain}.{at.microsecond:06}Z"
    if writing == "z_milli":
        return f"{plain}.{at.microsecond // 1000:03}Z"
    if writing == "z_mixed":  # a fraction only where there is one
        return f"{plain}.{at.microsecond // 1000:03}Z" if at.microsecond else f"{plain}Z"
    if writing == "offset":
        return (at + timedelta(hours=2)).strftime("%Y-%m-%dT%H:%M:%S+02:00")
    if writing == "space":
        return at.strftime("%Y-%m-%d %H:%M:%S.%f")
    if writing == "naive":
        return at.strftime("%Y-%m-%dT%H:%M:%S.%f")
    if writing == "day_first":
        return at.strftime("%d.%m.%Y %H:%M:%S")
    return f"{plain}Z"


def read(text: Any, writing: str) -> datetime | None:
    """The instant that a parameter means, as a careful server reads it; None for none."""
    try:
        if writing == "epoch":
            return datetime.fromtimestamp(float(text), UTC)
        if writing == "epoch_ms":
            return datetime.fromtimestamp(float(text) / 1000, UTC)
        if writing == "day_first":
            return datetime.strptime(text, "%d.%m.%Y %H:%M:%S").replace(tzinfo=UTC)
        found = datetime.fromisoformat(text)
    except ValueError:
        return None
    return found if found.tzinfo else found.replace(tzinfo=UTC)


@dataclass
class Row:
    """One version of a record. at: when it was changed, as the source says."""

    at: datetime
    values: dict[str, Any]


@dataclass
class World:
    """writing: of times. shape: what records hold: others too (`nested`), texts alone, as CSV and XML do (`texts`), or what the columns
    of a database do (`columns`)."""

    writing: str = "z"
    shape: str = "nested"
    seed: int = 0
    rows: dict[int, Row] = field(default_factory=dict)
    # Every version that ever was there, [from, until) by the count of changes: {id: [(from, until, row)]}.
    past: dict[int, list[list[Any]]] = field(default_factory=dict)
    moment: int = 0
    next_id: int = 1
    latest: datetime = BEGIN

    def __post_init__(self) -> None:
        self.random = random.Random(self.seed)

    def record(self, number: int) -> dict[str, Any]:
        """As the source shows it."""
        row = self.rows[number]
        return {"id": number, **deepcopy(row.values), "updated_at": write(row.at, self.writing)}

    # What happens

    def insert(self, count: int = 1, *, equal: bool = False, late: bool = False) -> None:
        for _ in range(count):
            self._put(self.next_id, self._values(), self._time(equal=equal, late=late))
            self.next_id += 1

    def change(self, place: int = 0, *, at: datetime | None = None) -> None:
        if self.rows:
            number = sorted(self.rows)[place % len(self.rows)]
            self._put(number, self._values(), at or self._time())

    def delete(self, place: int = 0) -> None:
        if self.rows:
            number = sorted(self.rows)[place % len(self.rows)]
            self.moment += 1
            self.past[number][-1][1] = self.moment
            del self.rows[number]

    def _put(self, number: int, values: dict[str, Any], at: datetime) -> None:
        self.moment += 1
        row = Row(at, values)
        versions = self.past.setdefault(number, [])
        if versions and versions[-1][1] is None:
            versions[-1][1] = self.moment
        versions.append([self.moment, None, row])
        self.rows[number] = row

    def _time(self, *, equal: bool = False, late: bool = False) -> datetime:
        if equal:
            return self.latest
        step = FINEST.get(self.writing, 1)
        if late:
            back = self.random.randrange(1, int(OVERLAP.total_seconds()) - 5)
            return max(BEGIN, self.latest - timedelta(seconds=back))
        ticks = self.random.choice([1, 1, 7, 1000, 1_000_000 // step, 90_000_000 // step])
        self.latest += timedelta(microseconds=step * max(1, ticks))
        return self.latest

    def _values(self) -> dict[str, Any]:
        any_of, some = self.random.choice, self.random.randrange
        name = any_of(NAMES)
        if self.shape == "texts":
            return {"name": name.replace("\n", " ").strip() or None, "n": str(some(100)), "note": any_of(["wet", "dry", None])}
        if self.shape == "columns":
            return {
                "name": any_of([name, name, None]),
                "n": any_of([0, 1, -7, 2**40, some(1000), None]),
                "amount": any_of([0.5, -0.0, 1e-9, 3.25, 12.75]),
                "price": Decimal(any_of(["0.0000", "-7.2500", "12345678901234567.0001", f"{some(1000)}.1000"])),
                "ok": any_of([True, False, None]),
                "tags": any_of([["wet"], ["wet", "late"], [], None]),
            }
        values: dict[str, Any] = {
            "name": name,
            "n": any_of([0, 1, -7, 2**40, some(1000)]),
            "amount": any_of([0.5, -0.0, 1e-9, 3.25, 12.75]),
            "ok": any_of([True, False, None]),
            "fare": {"cents": some(900), "kind": any_of(["full", "reduced", None])},
            "seats": [{"seat": f"A{n}", "row": some(9)} for n in range(some(3))],
            "tags": any_of([["wet"], ["wet", "late"], ["late"]]),
        }
        if some(3) == 0:
            values["note"] = any_of(["x", "", None])
        return values
