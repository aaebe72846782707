"""Runs: queued, taken by a worker, ended. Every change of a run's outcome is one guarded update here."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

from .. import wire
from ..core.errors import Conflict, NotFound
from ..core.runs import RunOutcome, TableProgress
from ..wire.typed import typed
from .database import Store, now_text

Trigger = Literal["manual", "schedule", "window", "upstream", "backfill", "retry"]
_COUNTS = (
    "read", "staged", "inserted", "updated", "deleted", "repeated", "held_back", "rejected", "unchanged", "filtered", "requests",
    "source_bytes",
)  # fmt: skip


@dataclass(frozen=True)
class RunRequest:
    """A run to queue.

    Attributes:
        window: (from, until), RFC 3339.
        backfill: whose window it is; 0 for the schedule's.
        sets: overrides values of the variant and settings.
    """

    feed: str
    feed_version: int
    allow_loss: bool = False
    replay: bool = False
    trigger: Trigger = "manual"
    asked_by: str = ""
    due_at: str | None = None
    window: tuple[str, str] | None = None
    backfill: int = 0
    sets: dict[str, Any] | None = None
    bodies: bool = False
    extract: bool = False


def ask(store: Store, wanted: RunRequest) -> int:
    """Queue a run. Returns its id.

    Raises:
        Conflict: another run of the feed is queued or running.
    """
    try:
        with store.transaction() as connection:
            return insert(connection, wanted)
    except sqlite3.IntegrityError:
        raise _already_active(store, wanted.feed) from None


def insert(connection: sqlite3.Connection, wanted: RunRequest) -> int:
    """Queue a run, within the caller's transaction.

    Raises:
        sqlite3.IntegrityError: another run of the feed is queued or running, or the window is taken already.
    """
    begins, ends = wanted.window or (None, None)
    made = connection.execute(
        """insert into run (feed, feed_version, outcome, requested_at, allow_loss, replay, trigger, asked_by, due_at, window_from,
                            window_until, backfill, sets, bodies, extract, settled)
           values (?, ?, 'queued', ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, 0)""",
        (
            wanted.feed,
            wanted.feed_version,
            now_text(),
            wanted.allow_loss,
            wanted.replay,
            wanted.trigger,
            wanted.asked_by,
            wanted.due_at,
            begins,
            ends,
            wanted.backfill,
            json.dumps(wanted.sets) if wanted.sets else None,
            wanted.bodies,
            wanted.extract,
        ),
    )
    assert made.lastrowid is not None
    return made.lastrowid


def queue_again(
    connection: sqlite3.Connection, run: int, feed_version: int, *, not_before: str | None = None, retries: bool = False
) -> int:
    """Queue the same run again, after it was interrupted or, with `retries`, failed. Returns the new run's id. Within the caller's
    transaction.

    Raises:
        sqlite3.IntegrityError: as for `insert`.
    """
    made = connection.execute(
        """insert into run (feed, feed_version, outcome, requested_at, resumes, allow_loss, replay, trigger, asked_by, due_at, window_from,
                            window_until, backfill, sets, bodies, extract, not_before, attempt, settled)
           select feed, ?, 'queued', ?, id, allow_loss, replay, case when ? then 'retry' else trigger end, asked_by, due_at, window_from,
                  window_until, backfill, sets, bodies, extract, ?, attempt + ?, 0
           from run where id = ?""",
        (feed_version, now_text(), retries, not_before, int(retries), run),
    )
    assert made.lastrowid is not None
    connection.execute("update due_window set run = ?, state = 'queued' where run = ?", (made.lastrowid, run))
    return made.lastrowid


def _already_active(store: Store, feed: str) -> Conflict:
    row = active(store, feed)
    return Conflict(
        "starting a run of",
        feed,
        found=f"its run {row['id']} is {row['outcome']}" if row else "another run was started at the same moment",
        fix="watch that run, or cancel it",
        code="run.already_active",
        details={"run": row["id"] if row else None},
    )


def start_waiting(store: Store, feed: str) -> int | None:
    """Let a run that waits for its next attempt begin at once. Returns its id; None if there is none."""
    with store.transaction() as connection:
        row = connection.execute(
            "select id from run where feed = ? and outcome = 'queued' and not_before is not null", (feed,)
        ).fetchone()
        if row is not None:
            connection.execute("update run set not_before = null where id = ?", (row["id"],))
        return row["id"] if row else None


def active(store: Store, feed: str) -> sqlite3.Row | None:
    """A feed's run that is queued or running; None if there is none."""
    found: sqlite3.Row | None = store.connection.execute(
        "select id, outcome from run where feed = ? and outcome in ('queued', 'running')", (feed,)
    ).fetchone()
    return found


def queued(store: Store, now: str) -> list[tuple[int, str]]:
    """[(run, feed)] that may begin, in the order in which they were queued. Each feed has at most one, so none can crowd out others."""
    rows = store.connection.execute(
        "select id, feed from run where outcome = 'queued' and (not_before is null or not_before <= ?) order by id", (now,)
    )
    return [(r["id"], r["feed"]) for r in rows]


def take(store: Store, run: int, worker: int) -> bool:
    """A worker begins a run. False if it is no longer queued."""
    with store.transaction() as connection:
        done = connection.execute(
            "update run set outcome = 'running', started_at = ?, worker = ? where id = ? and outcome = 'queued'",
            (now_text(), worker, run),
        )
        return done.rowcount == 1


def end(store: Store, run: int, outcome: RunOutcome, error: dict[str, Any] | None) -> bool:
    """End a run. False if it has ended already: the first outcome stands."""
    with store.transaction() as connection:
        done = connection.execute(
            """update run set outcome = ?, ended_at = ?, worker = null, error = ?
               where id = ? and outcome in ('queued', 'running')""",
            (outcome.value, now_text(), json.dumps(error) if error else None, run),
        )
        if done.rowcount == 1 and outcome is RunOutcome.SUCCEEDED:
            connection.execute("update due_window set state = 'done' where run = ?", (run,))
        return done.rowcount == 1


def not_followed_up(store: Store) -> list[int]:
    """Runs that have ended, and have not been followed up yet."""
    return [
        r["id"] for r in store.connection.execute("select id from run where settled = 0 and ended_at is not null order by id")
    ]


def mark_followed_up(connection: sqlite3.Connection, run: int) -> bool:
    """Mark a run as followed up, within the caller's transaction. False if somebody has done that already."""
    return connection.execute("update run set settled = 1 where id = ? and settled = 0", (run,)).rowcount == 1


def save_order(store: Store, run: int, order: str) -> None:
    """Save the resolved run."""
    with store.transaction() as connection:
        connection.execute("update run set run_order = ? where id = ?", (order, run))


def save_progress(connection: sqlite3.Connection, run: int, tables: Sequence[tuple[int, TableProgress]]) -> None:
    """Save the progress of its tables, within the caller's transaction."""
    connection.executemany(
        """insert into run_table (run, place, progress) values (?, ?, ?)
           on conflict (run, place) do update set progress = excluded.progress""",
        [(run, place, json.dumps(progress.as_dict())) for place, progress in tables],
    )


def save_pace(connection: sqlite3.Connection, run: int, samples: Sequence[Sequence[float]]) -> None:
    """Save how fast the run was: [(seconds since its start, records read, bytes)]. Within the caller's transaction."""
    connection.execute(
        "insert into run_pace (run, samples) values (?, ?) on conflict (run) do update set samples = excluded.samples",
        (run, json.dumps(samples)),
    )


def pace(store: Store, run: int) -> list[list[float]]:
    """What `save_pace` wrote; empty for a run that ended at once."""
    row = store.connection.execute("select samples from run_pace where run = ?", (run,)).fetchone()
    return json.loads(row["samples"]) if row else []


def lags(store: Store, feeds: Sequence[str]) -> list[wire.FollowedLag]:
    """How far feeds that follow a change log were behind when they last read it."""
    rows = store.connection.execute(
        """select r.feed, coalesce(r.ended_at, r.started_at) as at, t.progress -> '$.lag' as lag
           from json_each(?) as f
           join run as r on r.id = (select max(id) from run where feed = f.value and outcome not in ('queued', 'cancelled'))
           join run_table as t on t.run = r.id
           where t.progress ->> '$.lag' is not null""",
        (json.dumps(list(feeds)),),
    )
    return list(
        {row["feed"]: typed(wire.FollowedLag, json.loads(row["lag"]), feed=row["feed"], at=row["at"]) for row in rows}.values()
    )


def running(store: Store) -> list[tuple[int, str, int | None]]:
    """[(run, feed, the worker's process id)]"""
    rows = store.connection.execute("select id, feed, worker from run where outcome = 'running' order by id")
    return [(r["id"], r["feed"], r["worker"]) for r in rows]


def interrupted_in_a_row(store: Store, feed: str) -> int:
    """How many of the feed's latest runs, in a row, were interrupted."""
    rows = store.connection.execute(
        "select outcome from run where feed = ? and outcome not in ('queued', 'running') order by id desc limit 20",
        (feed,),
    )
    count = 0
    for row in rows:
        if row["outcome"] != RunOutcome.INTERRUPTED:
            break
        count += 1
    return count


def left_interrupted(store: Store, feeds: Sequence[str]) -> list[tuple[int, str]]:
    """[(run, feed)] of feeds whose latest run was interrupted and has not been recovered."""
    found = []
    for feed in feeds:
        row = store.connection.execute(
            "select id, outcome from run where feed = ? order by id desc limit 1", (feed,)
        ).fetchone()
        if row is not None and row["outcome"] == RunOutcome.INTERRUPTED:
            found.append((row["id"], feed))
    return sorted(found)


def outcome(store: Store, run: int) -> str:
    """The outcome of a run.

    Raises:
        NotFound: there is no such run.
    """
    row = store.connection.execute("select outcome from run where id = ?", (run,)).fetchone()
    if row is None:
        raise _not_found(run)
    return str(row["outcome"])


def get(store: Store, run: int) -> wire.Run:
    """One run with its tables.

    Raises:
        NotFound: there is no such run.
    """
    row = store.connection.execute("select * from run where id = ?", (run,)).fetchone()
    if row is None:
        raise _not_found(run)
    return _shown(store, row)


def latest(store: Store, *, feed: str | None = None, before: int | None = None, limit: int = 50) -> list[wire.Run]:
    """Runs, the latest first, with id < before."""
    beyond = before if before is not None else 2**62
    if feed is None:
        rows = store.connection.execute("select * from run where id < ? order by id desc limit ?", (beyond, limit)).fetchall()
    else:
        rows = store.connection.execute(
            "select * from run where feed = ? and id < ? order by id desc limit ?", (feed, beyond, limit)
        ).fetchall()
    return shown_runs(store, rows)


def _shown(store: Store, row: sqlite3.Row) -> wire.Run:
    return shown_runs(store, [row])[0]


def shown_runs(store: Store, rows: Sequence[sqlite3.Row]) -> list[wire.Run]:
    """Rows of runs as the API answers them, with their tables."""
    tables: dict[int, list[dict[str, Any]]] = {row["id"]: [] for row in rows}
    for found in store.connection.execute(
        "select run, progress from run_table where run in (select value from json_each(?)) order by run, place",
        (json.dumps(list(tables)),),
    ):
        # What older versions kept knows of no lag.
        tables[found["run"]].append({"lag": None, "warehouse": "", **json.loads(found["progress"])})
    return [_one(row, tables[row["id"]]) for row in rows]


def _one(row: sqlite3.Row, tables: list[dict[str, Any]]) -> wire.Run:
    # Of a feed into several warehouses, what the first was loaded with: the others have been given the same.
    totals = {count: sum(t.get(count, 0) for t in tables if not t["warehouse"]) for count in _COUNTS}
    return {
        "id": row["id"],
        "feed": row["feed"],
        "feed_version": row["feed_version"],
        "outcome": row["outcome"],
        "requested_at": row["requested_at"],
        "started_at": row["started_at"],
        "ended_at": row["ended_at"],
        "resumes": row["resumes"],
        "allow_loss": bool(row["allow_loss"]),
        "replay": bool(row["replay"]),
        "trigger": row["trigger"],
        "asked_by": row["asked_by"],
        "due_at": row["due_at"],
        "not_before": row["not_before"],
        "attempt": row["attempt"],
        "window": [row["window_from"], row["window_until"]] if row["window_from"] else None,
        "backfill": row["backfill"] or None,
        "sets": json.loads(row["sets"]) if row["sets"] else {},
        "bodies": bool(row["bodies"]),
        "extract": bool(row["extract"]),
        "error": json.loads(row["error"]) if row["error"] else None,
        "totals": typed(wire.Totals, totals),
        "tables": [typed(wire.TableProgress, table) for table in tables],
    }


def _not_found(run: int) -> NotFound:
    return NotFound("looking up the run", str(run), found="no run of that number", fix="see `reed runs`", code="run.not_found")
