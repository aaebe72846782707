"""What schedules have decided: clocks, windows that are due, backfills, pauses."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Literal

from .. import wire
from ..core.errors import Conflict, NotFound
from ..wire.typed import typed
from .database import Store, now_text

WindowState = Literal["waiting", "queued", "done", "failed", "skipped"]


@dataclass(frozen=True)
class Clock:
    """How far a feed's schedule has been decided.

    Attributes:
        rule: the schedule, as JSON.
        waiting: a moment that waits for a run to end.
    """

    rule: str
    decided_until: str
    after_run: int = 0
    waiting: str | None = None


def clock(connection: sqlite3.Connection, feed: str) -> Clock | None:
    """How far a feed's schedule has been decided; None if it has not been yet."""
    row = connection.execute(
        "select rule, decided_until, after_run, waiting from feed_clock where feed = ?", (feed,)
    ).fetchone()
    return Clock(**dict(row)) if row else None


def save_clock(connection: sqlite3.Connection, feed: str, kept: Clock) -> None:
    """Save how far a feed's schedule has been decided."""
    connection.execute(
        """insert into feed_clock (feed, rule, decided_until, after_run, waiting) values (?, ?, ?, ?, ?)
           on conflict (feed) do update set rule = excluded.rule, decided_until = excluded.decided_until,
               after_run = excluded.after_run, waiting = excluded.waiting""",
        (feed, kept.rule, kept.decided_until, kept.after_run, kept.waiting),
    )


# Windows


def add_windows(
    connection: sqlite3.Connection, feed: str, backfill: int, windows: Iterable[tuple[str, str, str, WindowState]]
) -> None:
    """Add windows; one that exists already stays as it is.

    Args:
        backfill: 0 for the feed's schedule.
        windows: (begins, ends, due at, state).
    """
    connection.executemany(
        "insert or ignore into due_window (feed, backfill, begins, ends, due_at, state) values (?, ?, ?, ?, ?, ?)",
        [(feed, backfill, *window) for window in windows],
    )


def next_waiting(connection: sqlite3.Connection, feed: str, *, newest: bool) -> sqlite3.Row | None:
    """The next window to run: of the schedule, otherwise of a backfill that is not paused."""
    order = "desc" if newest else "asc"
    found: sqlite3.Row | None = connection.execute(
        f"""select id, backfill, begins, ends, due_at from due_window
            where feed = ? and state = 'waiting' and backfill = 0 order by begins {order} limit 1""",
        (feed,),
    ).fetchone()
    if found is None:
        found = connection.execute(
            """select w.id, w.backfill, w.begins, w.ends, w.due_at from due_window as w
               join backfill as b on b.feed = w.feed and b.id = w.backfill and b.state = 'active'
               where w.feed = ? and w.state = 'waiting' order by b.id, w.begins limit 1""",
            (feed,),
        ).fetchone()
    return found


def mark_window_running(connection: sqlite3.Connection, window: int, run: int) -> None:
    """A run loads this window."""
    connection.execute("update due_window set state = 'queued', run = ? where id = ?", (run, window))


def set_window_state(
    connection: sqlite3.Connection, state: WindowState, *, run: int | None = None, window: int | None = None
) -> None:
    """Set the state of a window, or of the windows of a run."""
    connection.execute("update due_window set state = ? where run = ? or id = ?", (state, run, window))


def done_within(connection: sqlite3.Connection, feed: str, begins: str, ends: str) -> list[tuple[str, str]]:
    """The schedule's windows that are loaded and touch a range, in order."""
    rows = connection.execute(
        """select begins, ends from due_window
           where feed = ? and backfill = 0 and state = 'done' and ends > ? and begins < ? order by begins""",
        (feed, begins, ends),
    )
    return [(r["begins"], r["ends"]) for r in rows]


def windows_of(
    store: Store, feed: str, *, state: str | None = None, backfill: int | None = None, limit: int = 200
) -> list[wire.DueWindow]:
    """A feed's windows, the latest first.

    Args:
        backfill: 0 for those of its schedule.
    """
    rows = store.connection.execute(
        """select id, feed, nullif(backfill, 0) as backfill, begins, ends, state, run, due_at from due_window
           where feed = ? and (? is null or state = ?) and (? is null or backfill = ?) order by begins desc, id desc limit ?""",
        (feed, state, state, backfill, backfill, limit),
    )
    return [typed(wire.DueWindow, r) for r in rows]


def window_counts(store: Store, feed: str, backfill: int = 0) -> dict[str, int]:
    """{state: how many} of a feed's windows."""
    rows = store.connection.execute(
        "select state, count(*) as n from due_window where feed = ? and backfill = ? group by state", (feed, backfill)
    )
    return {r["state"]: r["n"] for r in rows}


def requeue_windows(store: Store, feed: str, begins: str, ends: str) -> int:
    """Have windows of the schedule that failed or were skipped wait again. Returns their number."""
    with store.transaction() as connection:
        return connection.execute(
            """update due_window set state = 'waiting', run = null
               where feed = ? and backfill = 0 and begins >= ? and ends <= ? and state in ('failed', 'skipped')""",
            (feed, begins, ends),
        ).rowcount


# Pauses


def paused(store: Store) -> dict[str, wire.Pause]:
    """{feed: by whom and since when}."""
    rows = store.connection.execute("select feed, paused_at, paused_by from feed_pause")
    return {r["feed"]: {"paused_at": r["paused_at"], "paused_by": r["paused_by"]} for r in rows}


def pause(store: Store, feed: str, by: str) -> None:
    """Pause a feed's schedule."""
    with store.transaction() as connection:
        connection.execute(
            "insert or ignore into feed_pause (feed, paused_at, paused_by) values (?, ?, ?)", (feed, now_text(), by)
        )


def resume(store: Store, feed: str) -> None:
    """Resume a feed's schedule."""
    with store.transaction() as connection:
        connection.execute("delete from feed_pause where feed = ?", (feed,))


# Backfills


def add_backfill(store: Store, feed: str, length: str, windows: Sequence[tuple[str, str]], by: str) -> int:
    """Add a backfill.

    Args:
        windows: in order, at least one.
    """
    with store.transaction() as connection:
        made = connection.execute(
            "insert into backfill (feed, begins, ends, length, state, asked_at, asked_by) values (?, ?, ?, ?, 'active', ?, ?)",
            (feed, windows[0][0], windows[-1][1], length, now_text(), by),
        )
        assert made.lastrowid is not None
        now = now_text()
        add_windows(connection, feed, made.lastrowid, ((*window, now, "waiting") for window in windows))
        return made.lastrowid


def backfills(store: Store, feed: str | None = None, backfill: int | None = None) -> list[wire.Backfill]:
    """The latest first, with the progress of each."""
    rows = store.connection.execute(
        """select id, feed, begins, ends, length, state, asked_at, asked_by from backfill
           where (? is null or feed = ?) and (? is null or id = ?) order by id desc limit 100""",
        (feed, feed, backfill, backfill),
    ).fetchall()
    found = []
    for row in rows:
        counts = window_counts(store, row["feed"], row["id"])
        found.append(typed(wire.Backfill, row, windows=sum(counts.values()), counts=counts))
    return found


def move_backfill(store: Store, backfill: int, state: Literal["active", "paused", "cancelled"]) -> wire.Backfill:
    """Pause, resume or cancel a backfill.

    Raises:
        NotFound: there is none.
        Conflict: it has ended.
    """
    found = backfills(store, backfill=backfill)
    if not found:
        raise NotFound("looking up the backfill", str(backfill), found="no backfill of that number", fix="see `reed backfills`")
    if found[0]["state"] in ("done", "cancelled"):
        raise Conflict(
            "changing the backfill",
            str(backfill),
            found=f"it is {found[0]['state']}",
            fix="begin another",
            code="backfill.ended",
        )
    with store.transaction() as connection:
        connection.execute("update backfill set state = ? where id = ? and state in ('active', 'paused')", (state, backfill))
        if state == "cancelled":
            connection.execute(
                "update due_window set state = 'skipped' where feed = ? and backfill = ? and state = 'waiting'",
                (found[0]["feed"], backfill),
            )
    return backfills(store, backfill=backfill)[0]


def end_backfills(connection: sqlite3.Connection, feed: str) -> None:
    """End backfills with nothing left to do."""
    connection.execute(
        """update backfill set state = 'done' where feed = ? and state = 'active' and not exists (
               select 1 from due_window as w
               where w.feed = backfill.feed and w.backfill = backfill.id and w.state in ('waiting', 'queued'))""",
        (feed,),
    )
