"""The dock's database: what the ferries' workshop writes down, in a SQLite file of its own."""

from __future__ import annotations

import random
import sqlite3
from collections.abc import Callable, Mapping
from contextlib import closing
from datetime import UTC, datetime, timedelta
from importlib.resources import files
from pathlib import Path

from .ferries import LANDINGS, SEED, VESSELS

ORDERS, PARTS, SHIFTS = 4_000, 1_200, 900
_JOBS = ("replace the ramp's hinge", "repaint the waterline", "look at the bilge pump", "grease the steering", "fix the rail")
_PARTS = ("hinge", "gasket", "rope", "lamp", "pump", "bearing", "cleat", "fender", "valve", "belt")
_CREW = ("Aske", "Brid", "Cato", "Dagny", "Ebba", "Finn", "Gro", "Hauk")


def make_dock(path: Path, now: datetime | None = None) -> None:
    """A new file. now: the newest of its times; when it is made, where nothing is said."""
    now = (now or datetime.now(UTC)).replace(microsecond=0)
    rng = random.Random(SEED)
    with closing(sqlite3.connect(path)) as db:
        # Readers and the workshop do not wait for each other.
        db.execute("pragma journal_mode = wal")
        db.executescript(files("reedbasket.demo").joinpath("dock.sql").read_text("utf-8"))
        begun = now - timedelta(days=365)
        orders = []
        for number in range(1, ORDERS + 1):
            opened = begun + timedelta(minutes=number * 131 + rng.randint(0, 90))
            closed = opened + timedelta(hours=rng.randint(2, 400))
            done = closed < now
            cost = f"{rng.randint(20, 4000)}.{rng.randint(0, 99):02d}" if done else None
            orders.append(
                (number, rng.choice(VESSELS), rng.choice(_JOBS), "done" if done else "open", _day(opened + timedelta(days=5)),
                 cost, _text(opened), _text(closed if done else opened))
            )  # fmt: skip
        db.executemany("insert into work_orders values (?, ?, ?, ?, ?, ?, ?, ?)", orders)
        parts = [
            (
                f"P-{number:05d}",
                f"{rng.choice(_PARTS)} {rng.randint(1, 40)} mm",
                round(rng.uniform(1, 400), 2),
                rng.randint(0, 60),
            )
            for number in range(1, PARTS + 1)
        ]
        db.executemany("insert into parts values (?, ?, ?, ?)", parts)
        shifts = [
            (number, rng.choice(_CREW), rng.choice(LANDINGS), _day(begun + timedelta(days=number * 365 // SHIFTS)),
             rng.choice(("early", "late", "night")))
            for number in range(1, SHIFTS + 1)
        ]  # fmt: skip
        db.executemany("insert into crew_shifts values (?, ?, ?, ?, ?)", shifts)
        tanks = [(place, f"{place} tank", 20_000, rng.randint(1_000, 20_000), _text(now)) for place in LANDINGS]
        db.executemany("insert into fuel_tanks values (?, ?, ?, ?, ?)", tanks)
        db.commit()


def happenings(path: Path) -> Mapping[str, Callable[[], str]]:
    """What the workshop does, by name."""

    def change(statement: str, words: str) -> str:
        with closing(sqlite3.connect(path, timeout=10)) as db, db:
            found = db.execute(statement, {"now": _text(datetime.now(UTC))}).fetchone()
        return words.format(*found) if found else "there is nothing left to do that with"

    return {
        "work_order_done": lambda: change(
            """update work_orders set status = 'done', cost = '120.00', updated_at = :now
               where order_id = (select min(order_id) from work_orders where status = 'open') returning order_id, vessel""",
            "work order {} on the {} is done",
        ),
        "work_order_deleted": lambda: change(
            "delete from work_orders where order_id = (select max(order_id) from work_orders) returning order_id",
            "work order {} was deleted; changes by cursor do not notice that",
        ),
        "part_repriced": lambda: change(
            """update parts set price = round(price * 1.1, 2)
               where part_no = (select part_no from parts order by random() limit 1) returning part_no, price""",
            "part {} costs {} now; its row does not say since when",
        ),
        "shift_cancelled": lambda: change(
            "delete from crew_shifts where shift_id = (select max(shift_id) from crew_shifts) returning shift_id, crew",
            "shift {} of {} was taken out",
        ),
    }


def _text(value: datetime) -> str:
    return value.strftime("%Y-%m-%d %H:%M:%S")


def _day(value: datetime) -> str:
    return value.strftime("%Y-%m-%d")
