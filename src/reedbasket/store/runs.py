"""Runs: asked for, taken by a worker, ended. Every change of outcome is one guarded update here."""

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
    """A run to be. window: (from, until), RFC 3339; backfill: whose window it is, 0 for the schedule's; sets: in place of the
    variant's values and of settings."""

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
    """Queue a run: its id. Raises Conflict while another run of the feed is queued or running."""
    try:
        with store.transaction() as connection:
            return insert(connection, wanted)
    except sqlite3.IntegrityError:
        raise _already_active(store, wanted.feed) from None


def insert(connection: sqlite3.Connection, wanted: RunRequest) -> int:
    """Within the caller's transaction. Raises sqlite3.IntegrityError while another run of the feed is queued or running, or where the
    window has been taken."""
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


def ask_again(
    connection: sqlite3.Connection, run: int, feed_version: int, *, not_before: str | None = None, retries: bool = False
) -> int:
    """The same once more, after it was cut or, with `retries`, failed: the new run's id. Within the caller's transaction. Raises
    sqlite3.IntegrityError as `insert` does."""
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
        "asking for a run of",
        feed,
        found=f"run {row['id']} of it is {row['outcome']}" if row else "another run was asked for in the same moment",
        fix="watch that one, or cancel it",
        code="run.already_active",
        details={"run": row["id"] if row else None},
    )


def hurry(store: Store, feed: str) -> int | None:
    """A run that waits for its next attempt begins at once: its id; None where there is none."""
    with store.transaction() as connection:
        row = connection.execute(
            "select id from run where feed = ? and outcome = 'queued' and not_before is not null", (feed,)
        ).fetchone()
        if row is not None:
            connection.execute("update run set not_before = null where id = ?", (row["id"],))
        return row["id"] if row else None


def active(store: Store, feed: str) -> sqlite3.Row | None:
    """A feed's run that waits or goes on; None where there is none."""
    found: sqlite3.Row | None = store.connection.execute(
        "select id, outcome from run where feed = ? and outcome in ('queued', 'running')", (feed,)
    ).fetchone()
    return found


def queued(store: Store, now: str) -> list[tuple[int, str]]:
    """[(run, feed)] that may begin, in the order in which they were asked for. A feed has one at most, so none can crowd out others."""
    rows = store.connection.execute(
        "select id, feed from run where outcome = 'queued' and (not_before is null or not_before <= ?) order by id", (now,)
    )
    return [(r["id"], r["feed"]) for r in rows]


def take(store: Store, run: int, worker: int) -> bool:
    """A worker begins it. False where it is not queued any more."""
    with store.transaction() as connection:
        done = connection.execute(
            "update run set outcome = 'running', started_at = ?, worker = ? where id = ? and outcome = 'queued'",
            (now_text(), worker, run),
        )
        return done.rowcount == 1


def end(store: Store, run: int, outcome: RunOutcome, error: dict[str, Any] | None) -> bool:
    """Close a run. False where it has ended already: the first outcome stands."""
    with store.transaction() as connection:
        done = connection.execute(
            """update run set outcome = ?, ended_at = ?, worker = null, error = ?
               where id = ? and outcome in ('queued', 'running')""",
            (outcome.value, now_text(), json.dumps(error) if error else None, run),
        )
        if done.rowcount == 1 and outcome is RunOutcome.SUCCEEDED:
            connection.execute("update due_window set state = 'done' where run = ?", (run,))
        return done.rowcount == 1


def unsettled(store: Store) -> list[int]:
    """Runs that ended, and nothing has followed from it yet."""
    return [
        r["id"] for r in store.connection.execute("select id from run where settled = 0 and ended_at is not null order by id")
    ]


def mark_settled(connection: sqlite3.Connection, run: int) -> bool:
    """Within the caller's transaction. False where somebody has done it already."""
    return connection.execute("update run set settled = 1 where id = ? and settled = 0", (run,)).rowcount == 1


def keep_order(store: Store, run: int, order: str) -> None:
    """What a run was to do, as it was resolved."""
    with store.transaction() as connection:
        connection.execute("update run set run_order = ? where id = ?", (order, run))


def keep_progress(connection: sqlite3.Connection, run: int, tables: Sequence[tuple[int, TableProgress]]) -> None:
    """Within the caller's transaction."""
    connection.executemany(
        """insert into run_table (run, place, progress) values (?, ?, ?)
           on conflict (run, place) do update set progress = excluded.progress""",
        [(run, place, json.dumps(progress.as_dict())) for place, progress in tables],
    )


def keep_pace(connection: sqlite3.Connection, run: int, samples: Sequence[Sequence[float]]) -> None:
    """How fast it went: [(seconds since it began, records read, bytes)]. Within the caller's transaction."""
    connection.execute(
        "insert into run_pace (run, samples) values (?, ?) on conflict (run) do update set samples = excluded.samples",
        (run, json.dumps(samples)),
    )


def pace(store: Store, run: int) -> list[list[float]]:
    """As `keep_pace` wrote it; nothing of a run that was over at once."""
    row = store.connection.execute("select samples from run_pace where run = ?", (run,)).fetchone()
    return json.loads(row["samples"]) if row else []


def lags(store: Store, feeds: Sequence[str]) -> list[wire.FollowedLag]:
    """How far feeds that follow a log were behind it when they last read it: feed, at, bytes, seconds, transactions."""
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
    """[(run, feed, worker's process id)]"""
    rows = store.connection.execute("select id, feed, worker from run where outcome = 'running' order by id")
    return [(r["id"], r["feed"], r["worker"]) for r in rows]


def interrupted_in_a_row(store: Store, feed: str) -> int:
    """How many of the feed's latest runs ended interrupted, without another outcome between."""
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
    """[(run, feed)] for those whose latest run ended interrupted: nothing has taken it up yet."""
    found = []
    for feed in feeds:
        row = store.connection.execute(
            "select id, outcome from run where feed = ? order by id desc limit 1", (feed,)
        ).fetchone()
        if row is not None and row["outcome"] == RunOutcome.INTERRUPTED:
            found.append((row["id"], feed))
    return sorted(found)


def outcome(store: Store, run: int) -> str:
    """Raises NotFound."""
    row = store.connection.execute("select outcome from run where id = ?", (run,)).fetchone()
    if row is None:
        raise _not_found(run)
    return str(row["outcome"])


def get(store: Store, run: int) -> wire.Run:
    """One run with its tables (wire.Run). Raises NotFound."""
    row = store.connection.execute("select * from run where id = ?", (run,)).fetchone()
    if row is None:
        raise _not_found(run)
    return _shown(store, row)


def latest(store: Store, *, feed: str | None = None, before: int | None = None, limit: int = 50) -> list[wire.Run]:
    """Runs, newest first, with id < before."""
    beyond = before if before is not None else 2**62
    if feed is None:
        rows = store.connection.execute("select * from run where id < ? order by id desc limit ?", (beyond, limit)).fetchall()
    else:
        rows = store.connection.execute(
            "select * from run where feed = ? and id < ? order by id desc limit ?", (feed, beyond, limit)
        ).fetchall()
    return _all_shown(store, rows)


@dataclass(frozen=True)
class FeedStanding:
    """How a feed stands. activity: of its run that waits or goes on. fresh_at: when a run last succeeded. drift: what its last run met."""

    feed: str
    version: int
    first_applied: str | None
    activity: Literal["queued", "running"] | None
    last_run: wire.Run | None
    fresh_at: str | None
    rejects: int
    drift: int


def standings(store: Store, feeds: Sequence[str]) -> list[FeedStanding]:
    """Of all these, in four statements however many there are."""
    rows = store.connection.execute(
        """select f.value as feed,
                  (select max(version) from definition where kind = 'feed' and name = f.value) as version,
                  (select min(applied_at) from definition where kind = 'feed' and name = f.value) as first_applied,
                  (select outcome from run where feed = f.value and outcome in ('queued', 'running')) as activity,
                  (select max(id) from run where feed = f.value) as last_run,
                  (select ended_at from run where feed = f.value and outcome = 'succeeded' and not extract
                   order by id desc limit 1) as fresh_at,
                  (select count(*) from reject where feed = f.value) as rejects
           from json_each(?) as f""",
        (json.dumps(list(feeds)),),
    ).fetchall()
    # A run that has ended stays as it is: what is asked for every few seconds is mostly that.
    held: dict[int, dict[str, Any]] = store.held.get("last_runs", {})
    new = [row["last_run"] for row in rows if row["last_run"] is not None and row["last_run"] not in held]
    found = store.connection.execute("select * from run where id in (select value from json_each(?))", (json.dumps(new),))
    shown = {one["id"]: one for one in _all_shown(store, found.fetchall())}
    shown |= {row["last_run"]: held[row["last_run"]] for row in rows if row["last_run"] in held}
    if len(feeds) > 1:
        store.held["last_runs"] = {run: one for run, one in shown.items() if one["ended_at"] is not None}
    latest = json.dumps([row["last_run"] for row in rows if row["last_run"] is not None])
    drift = dict(
        store.connection.execute(
            "select run, count(*) from drift where run in (select value from json_each(?)) group by run", (latest,)
        ).fetchall()
    )
    return [
        FeedStanding(**{**dict(row), "last_run": shown.get(row["last_run"]), "drift": drift.get(row["last_run"], 0)})
        for row in rows
    ]


def newest_success(connection: sqlite3.Connection, feed: str) -> int:
    """The last run of a feed that succeeded; 0 where none has."""
    found = connection.execute(
        "select coalesce(max(id), 0) from run where feed = ? and outcome = 'succeeded' and not extract", (feed,)
    )
    return int(found.fetchone()[0])


def last_succeeded(store: Store, feed: str) -> str | None:
    """When a feed's last good run ended; None before there was one."""
    row = store.connection.execute(
        "select ended_at from run where feed = ? and outcome = 'succeeded' and not extract order by id desc limit 1", (feed,)
    ).fetchone()
    return row["ended_at"] if row else None


def _shown(store: Store, row: sqlite3.Row) -> wire.Run:
    return _all_shown(store, [row])[0]


def _all_shown(store: Store, rows: Sequence[sqlite3.Row]) -> list[wire.Run]:
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
