"""Runs: asked for, taken by a worker, ended. Every change of outcome is one guarded update here."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Sequence
from typing import Any

from ..core.errors import Conflict, NotFound
from ..core.run import RunOutcome, TableProgress
from .database import Store, now_text

_COUNTS = ("read", "staged", "loaded", "repeated", "held_back", "rejected", "unchanged", "filtered", "requests", "source_bytes")


def ask(
    store: Store, feed: str, feed_version: int, resumes: int | None = None, *, accept: bool = False, again: bool = False
) -> int:
    """Queue a run: its id. Raises Conflict while another run of the feed is queued or running."""
    try:
        with store.transaction() as connection:
            made = connection.execute(
                """insert into run (feed, feed_version, outcome, requested_at, resumes, accept, again)
                   values (?, ?, 'queued', ?, ?, ? or coalesce((select accept from run where id = ?), 0),
                           ? or coalesce((select again from run where id = ?), 0))""",
                (feed, feed_version, now_text(), resumes, accept, resumes, again, resumes),
            )
            assert made.lastrowid is not None
            return made.lastrowid
    except sqlite3.IntegrityError:
        row = active(store, feed)
        raise Conflict(
            "asking for a run of",
            feed,
            found=f"run {row['id']} of it is {row['outcome']}" if row else "another run was asked for in the same moment",
            mend="watch that one, or cancel it",
            code="run.already_active",
            details={"run": row["id"] if row else None},
        ) from None


def active(store: Store, feed: str) -> sqlite3.Row | None:
    found: sqlite3.Row | None = store.connection.execute(
        "select id, outcome from run where feed = ? and outcome in ('queued', 'running')", (feed,)
    ).fetchone()
    return found


def next_queued(store: Store) -> int | None:
    row = store.connection.execute("select min(id) from run where outcome = 'queued'").fetchone()
    return row[0] if row else None


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
        return done.rowcount == 1


def keep_order(store: Store, run: int, order: str) -> None:
    with store.transaction() as connection:
        connection.execute("update run set run_order = ? where id = ?", (order, run))


def keep_progress(connection: sqlite3.Connection, run: int, tables: Sequence[tuple[int, TableProgress]]) -> None:
    """Within the caller's transaction."""
    connection.executemany(
        """insert into run_table (run, place, progress) values (?, ?, ?)
           on conflict (run, place) do update set progress = excluded.progress""",
        [(run, place, json.dumps(progress.as_dict())) for place, progress in tables],
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


def left_interrupted(store: Store) -> list[tuple[int, str]]:
    """[(run, feed)] for feeds whose latest run ended interrupted: nothing has taken it up yet."""
    rows = store.connection.execute(
        "select max(id) as id, feed, outcome from run group by feed having outcome = 'interrupted' order by id"
    )
    return [(r["id"], r["feed"]) for r in rows]


def outcome(store: Store, run: int) -> str:
    """Raises NotFound."""
    row = store.connection.execute("select outcome from run where id = ?", (run,)).fetchone()
    if row is None:
        raise _not_found(run)
    return str(row["outcome"])


def get(store: Store, run: int) -> dict[str, Any]:
    """One run with its tables (wire.Run). Raises NotFound."""
    row = store.connection.execute("select * from run where id = ?", (run,)).fetchone()
    if row is None:
        raise _not_found(run)
    return _shown(store, row)


def latest(store: Store, *, feed: str | None = None, before: int | None = None, limit: int = 50) -> list[dict[str, Any]]:
    """Runs, newest first, with id < before."""
    rows = store.connection.execute(
        """select * from run where (? is null or feed = ?) and (? is null or id < ?) order by id desc limit ?""",
        (feed, feed, before, before, limit),
    ).fetchall()
    return [_shown(store, row) for row in rows]


def last_succeeded(store: Store, feed: str) -> str | None:
    row = store.connection.execute(
        "select ended_at from run where feed = ? and outcome = 'succeeded' order by id desc limit 1", (feed,)
    ).fetchone()
    return row["ended_at"] if row else None


def _shown(store: Store, row: sqlite3.Row) -> dict[str, Any]:
    tables = [
        json.loads(r["progress"])
        for r in store.connection.execute("select progress from run_table where run = ? order by place", (row["id"],))
    ]
    return {
        "id": row["id"],
        "feed": row["feed"],
        "feed_version": row["feed_version"],
        "outcome": row["outcome"],
        "requested_at": row["requested_at"],
        "started_at": row["started_at"],
        "ended_at": row["ended_at"],
        "resumes": row["resumes"],
        "accept": bool(row["accept"]),
        "again": bool(row["again"]),
        "error": json.loads(row["error"]) if row["error"] else None,
        "totals": {count: sum(t.get(count, 0) for t in tables) for count in _COUNTS},
        "tables": tables,
    }


def _not_found(run: int) -> NotFound:
    return NotFound("looking up the run", str(run), found="no run of that number", mend="see `reed runs`", code="run.not_found")
