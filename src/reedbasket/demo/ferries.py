"""The harbour's records, generated from a fixed seed: 6 landings, 9 vessels, 20,000 sailings, 60,000 bookings.

Every time in them is told from `now`, when the stand-ins start: the story's clock is the clock on the wall.
"""

from __future__ import annotations

import random
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from typing import Any

SEED = 20260302
SAILINGS = 20_000
BOOKINGS = 60_000

_LANDINGS = [
    ("OSQ", "Osier Quay", 4, True),
    ("EEL", "Eelstairs", 2, True),
    ("TAN", "Tansy Reach", 2, False),
    ("WIT", "Withybank", 3, True),
    ("HER", "Heron Stage", 1, False),
    ("LOS", "Long Sluice", 3, True),
]
VESSELS = ["Bittern", "Curlew", "Dunlin", "Egret", "Godwit", "Lapwing", "Plover", "Redshank", "Whimbrel"]
LANDINGS = [code for code, *_ in _LANDINGS]
_STATUSES = ["arrived"] * 46 + ["delayed"] * 3 + ["cancelled"]
_CONCESSIONS = [None, None, None, "resident", "student"]
_CATEGORIES = ["adult"] * 7 + ["child"] * 2 + ["senior"]
_BOOKING_STATUSES = ["confirmed"] * 18 + ["cancelled", "no_show"]
_NOTES = [None] * 19 + ["bicycle", "dog on board", "Übergepäck, 2 Kisten"]
_KINDS = ["car", "car", "car", "van", "motorcycle", "trailer"]


def time_text(value: datetime) -> str:
    """A moment as the ferries' systems write it."""
    return value.isoformat(timespec="milliseconds").replace("+00:00", "Z")


def story_now() -> datetime:
    """Where the story stands as it begins: this minute."""
    return datetime.now(UTC).replace(second=0, microsecond=0)


def _pick(rng: random.Random, items: Sequence[Any]) -> Any:
    """As rng.choice, three times as fast: a million of them stand between `make demo` and its first page."""
    return items[int(rng.random() * len(items))]


def _whole(rng: random.Random, low: int, high: int) -> int:
    return low + int(rng.random() * (high - low + 1))


def make_all(now: datetime) -> dict[str, list[dict[str, Any]]]:
    """{table: records}, each list in the order of updated_at; none is newer than `now`."""
    rng = random.Random(SEED)
    sailings = _sailings(rng, now)
    made = {
        "landings": _landings(now),
        "vessels": _vessels(rng, now),
        "sailings": sailings,
        "bookings": [make_booking(rng, number, _pick(rng, sailings), now) for number in range(1, BOOKINGS + 1)],
    }
    for records in made.values():
        records.sort(key=lambda r: r["updated_at"])
    return made


def _landings(now: datetime) -> list[dict[str, Any]]:
    return [
        {
            "landing_id": code,
            "name": name,
            "berths": berths,
            "step_free": step_free,
            # Open ocean: the marsh is on no map.
            "position": {"lat": round(46.2 + i * 0.031, 5), "lon": round(-34.61 + i * 0.047, 5)},
            "updated_at": time_text(now - timedelta(days=59) + timedelta(minutes=i)),
        }
        for i, (code, name, berths, step_free) in enumerate(_LANDINGS)
    ]


def _vessels(rng: random.Random, now: datetime) -> list[dict[str, Any]]:
    return [
        {
            "vessel_id": f"V{i:02d}",
            "name": name,
            "seats": _pick(rng, [48, 64, 96, 120]),
            "car_deck_m": _pick(rng, [0, 24, 36, 60]),
            "built": f"{_whole(rng, 1988, 2021)}-{_whole(rng, 1, 12):02d}-01",
            "call_sign": f"SF{i:03d}",
            "updated_at": time_text(now - timedelta(days=58) + timedelta(minutes=i)),
        }
        for i, name in enumerate(VESSELS, 1)
    ]


def _sailings(rng: random.Random, now: datetime) -> list[dict[str, Any]]:
    """Departures from sixty days back to ten days ahead, evenly spread."""
    first = now - timedelta(days=60, hours=1)
    step = (now + timedelta(days=10) - first) / SAILINGS
    records = []
    for number in range(1, SAILINGS + 1):
        departs = (first + step * number).replace(second=0, microsecond=0)
        origin, to = rng.sample(LANDINGS, 2)
        past = departs < now - timedelta(hours=2)
        status = _pick(rng, _STATUSES) if past else "scheduled"
        delay = _whole(rng, 3, 55) if status == "delayed" else 0
        changed = departs + timedelta(minutes=delay + 20, seconds=_whole(rng, 0, 59)) if past else departs - timedelta(days=11)
        records.append(
            {
                "sailing_id": f"S-{number:05d}",
                "from": origin,
                "to": to,
                "vessel_id": f"V{_whole(rng, 1, len(VESSELS)):02d}",
                "departs_at": time_text(departs),
                "departed_at": time_text(departs + timedelta(minutes=delay)) if past and status != "cancelled" else None,
                "status": status,
                "delay_minutes": delay,
                "seats_free": _whole(rng, 0, 60),
                "tide": {"height_m": round(rng.uniform(0.4, 5.9), 2), "rising": rng.random() < 0.5},
                "updated_at": time_text(changed),
            }
        )
    return records


def make_booking(rng: random.Random, number: int, sailing: dict[str, Any], now: datetime) -> dict[str, Any]:
    """One booking of a sailing, with its passengers and vehicles."""
    departs = datetime.fromisoformat(sailing["departs_at"])
    booked = min(departs, now) - timedelta(minutes=_whole(rng, 30, 20_000))
    concession = _pick(rng, _CONCESSIONS)
    passengers = [
        {
            "category": _pick(rng, _CATEGORIES),
            "seat": f"{_whole(rng, 1, 30)}{_pick(rng, 'ABCD')}",
            "step_free": rng.random() < 0.04,
        }
        for _ in range(_pick(rng, [1, 1, 2, 2, 3, 4]))
    ]
    vehicles: list[dict[str, Any]] = [
        {
            "kind": _pick(rng, _KINDS),
            "length_m": round(rng.uniform(2.1, 8.5), 1),
            "plate": f"MK{_whole(rng, 10, 99)} {number % 1000:03d}",
        }
        for _ in range(_pick(rng, [0, 0, 0, 1, 1, 2]))
    ]
    amount = 6.4 * len(passengers) + sum(4.2 * v["length_m"] for v in vehicles)
    return {
        "booking_id": f"B-{number:06d}",
        "sailing_id": sailing["sailing_id"],
        # Beyond 2^53: a double would lose its last digits.
        "ticket": 9_007_199_254_740_993 + number * 7_919,
        "status": _pick(rng, _BOOKING_STATUSES),
        "booked_at": time_text(booked),
        "fare": {
            "amount": round(amount * (0.7 if concession else 1.0), 2),
            "currency": "EUR",
            "concession": concession,
        },
        "contact_email": f"guest{number}@post.example",
        "passengers": passengers,
        "vehicles": vehicles,
        "note": _pick(rng, _NOTES),
        "updated_at": time_text(booked + timedelta(seconds=_whole(rng, 0, 1200))),
    }


def make_boardings(sailing_id: str) -> list[dict[str, Any]]:
    """Who went aboard a sailing: the same each time it is asked."""
    rng = random.Random(f"{SEED} {sailing_id}")
    seats = sorted(rng.sample(range(1, 31), rng.randint(0, 9)))
    return [{"seat": f"{seat}{_pick(rng, 'ABCD')}", "gate": _pick(rng, [1, 2]), "luggage": _whole(rng, 0, 3)} for seat in seats]
