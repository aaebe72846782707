"""The harbour stand-in: an HTTP API with bearer token, next-token pages and `updated_after`, over the made-up records."""

from __future__ import annotations

import base64
import binascii
import random
import threading
import time
from bisect import bisect_left
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from typing import Any

from flask import Flask, Response, request

from .ferries import SEED, make_all, make_boardings, make_booking, time_text
from .serving import as_json

_KEYS = {"landings": "landing_id", "vessels": "vessel_id", "sailings": "sailing_id", "bookings": "booking_id"}
_LARGEST_PAGE = 1000


class Harbour:
    """The records and their clock. `_lock` guards both: several threads answer."""

    def __init__(self, begun: datetime) -> None:
        self._tables = make_all(begun)
        self._lock = threading.Lock()
        self._last = begun
        self._rng = random.Random(SEED + 1)
        self._next_booking = len(self._tables["bookings"]) + 1
        self.busy_left = 0
        self.down_until = 0.0

    def now(self) -> datetime:
        """Never twice the same millisecond, so that changes have an order."""
        self._last = max(datetime.now(UTC), self._last + timedelta(milliseconds=1))
        return self._last

    def page(
        self, table: str, after: str | None, before: str | None, start: tuple[str, str] | None, limit: int
    ) -> dict[str, Any]:
        """Records with after <= updated_at < before, in the order of (updated_at, id), from behind `start`."""
        key = _KEYS[table]
        with self._lock:
            records = self._tables[table]
            low = bisect_left(records, after or "", key=lambda r: r["updated_at"])
            high = bisect_left(records, before, key=lambda r: r["updated_at"]) if before else len(records)
            total = max(0, high - low)
            if start:
                low = bisect_left(records, start, key=lambda r: (r["updated_at"], r[key]))
                low += low < len(records) and (records[low]["updated_at"], records[low][key]) == start
            items = records[low : min(high, low + limit)]
            more = items and low + limit < high
            token = _token(items[-1]["updated_at"], items[-1][key]) if more else None
        return {"items": items, "meta": {"next": token, "total": total}}

    def bookings_added(self, count: int = 2) -> str:
        """New bookings: what happened, in words."""
        with self._lock:
            for _ in range(count):
                sailing = self._rng.choice(self._tables["sailings"][-200:])
                changed = self.now()
                booking, now = make_booking(self._rng, self._next_booking, sailing, changed), time_text(changed)
                self._tables["bookings"].append({**booking, "booked_at": now, "updated_at": now})
                self._next_booking += 1
        return f"{count} bookings were added"

    def sailing_delayed(self) -> str:
        """One sailing later than it was: what happened, in words."""
        with self._lock:
            records = self._tables["sailings"]
            index = next(i for i in range(len(records) - 1, -1, -1) if records[i]["status"] == "scheduled")
            sailing = records.pop(index)
            records.append({**sailing, "status": "delayed", "delay_minutes": 25, "updated_at": time_text(self.now())})
        return f"sailing {sailing['sailing_id']} is delayed by 25 minutes"

    def odd_record(self) -> str:
        """A booking whose fare is a word: it will not fit its column."""
        with self._lock:
            changed = self.now()
            booking = make_booking(self._rng, self._next_booking, self._tables["sailings"][-1], changed)
            booking["fare"]["amount"], now = "free", time_text(changed)
            self._tables["bookings"].append({**booking, "booked_at": now, "updated_at": now})
            self._next_booking += 1
        return f"booking {booking['booking_id']} was added with the fare 'free'"

    def vessel_inspected(self) -> str:
        """A field that no vessel had before."""
        with self._lock:
            vessel = self._tables["vessels"].pop(0)
            now = time_text(self.now())
            self._tables["vessels"].append({**vessel, "hull": {"inspected_on": now[:10], "sound": True}, "updated_at": now})
        return f"vessel {vessel['vessel_id']} was inspected; it has a new field `hull`"

    def vessel_sold(self) -> str:
        """Gone without a word: only a complete read shows it."""
        with self._lock:
            vessel = self._tables["vessels"].pop(2)
        return f"vessel {vessel['vessel_id']} was sold, and is no longer listed"

    def busy(self) -> str:
        """Too many requests for the next two: what happens, in words."""
        self.busy_left = 2
        return "the next 2 requests are answered 429 with Retry-After: 1"

    def down(self) -> str:
        """Out of order for some seconds: what happens, in words."""
        self.down_until = time.monotonic() + 5
        return "every request is answered 503 for 5 seconds"


def _token(updated_at: str, key: str) -> str:
    return base64.urlsafe_b64encode(f"{updated_at}|{key}".encode()).decode()


def _start(token: str | None) -> tuple[str, str] | None:
    if not token:
        return None
    updated_at, _, key = base64.urlsafe_b64decode(token).decode().partition("|")
    return updated_at, key


def _comparable(text: str | None) -> str | None:
    """A time as the records write it, so that text compares as time does."""
    return time_text(datetime.fromisoformat(text)) if text else None


def create_harbour(token: str, now: datetime) -> tuple[Flask, dict[str, Callable[[], str]]]:
    """(the application, what can happen to it). now: when the story begins."""
    app = Flask(__name__)
    harbour = Harbour(now)

    def refused() -> Response | None:
        if request.headers.get("Authorization") != f"Bearer {token}":
            return as_json({"error": "unknown token"}, 401)
        if time.monotonic() < harbour.down_until:
            return as_json({"error": "the harbour office is closed for a moment"}, 503)
        if harbour.busy_left > 0:
            harbour.busy_left -= 1
            return as_json({"error": "too many requests"}, 429, {"Retry-After": "1"})
        return None

    @app.get("/v1/<table>")
    def records(table: str) -> Response:
        no = refused()
        if no is not None:
            return no
        if table not in _KEYS:
            return as_json({"error": f"no such list; there are {', '.join(_KEYS)}"}, 404)
        try:
            after, before = (
                _comparable(request.args.get("updated_after")),
                _comparable(request.args.get("updated_before")),
            )
            start, limit = _start(request.args.get("after")), int(request.args.get("limit", 100))
        except (ValueError, binascii.Error) as error:
            return as_json({"error": f"unreadable parameter: {error}"}, 400)
        return as_json(harbour.page(table, after, before, start, max(1, min(limit, _LARGEST_PAGE))))

    @app.get("/v1/sailings/<sailing>/boardings")
    def boardings(sailing: str) -> Response:
        no = refused()
        return no if no is not None else as_json({"items": make_boardings(sailing)})

    return app, {
        "bookings_added": harbour.bookings_added,
        "sailing_delayed": harbour.sailing_delayed,
        "odd_record": harbour.odd_record,
        "vessel_inspected": harbour.vessel_inspected,
        "vessel_sold": harbour.vessel_sold,
        "busy": harbour.busy,
        "down": harbour.down,
    }
