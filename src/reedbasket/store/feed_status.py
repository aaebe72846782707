"""The state of feeds, from their runs."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

from .. import wire
from .database import Store
from .runs import shown_runs


@dataclass(frozen=True)
class FeedStatus:
    """The state of a feed.

    Attributes:
        activity: of its run that is queued or running.
        fresh_at: when a run last succeeded.
        drift: changes of structure that its last run found.
    """

    feed: str
    version: int
    first_applied: str | None
    activity: Literal["queued", "running"] | None
    last_run: wire.Run | None
    fresh_at: str | None
    rejects: int
    drift: int


def feed_statuses(store: Store, feeds: Sequence[str]) -> list[FeedStatus]:
    """The states of these feeds, in four statements, however many there are."""
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
    shown = {one["id"]: one for one in shown_runs(store, found.fetchall())}
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
        FeedStatus(**{**dict(row), "last_run": shown.get(row["last_run"]), "drift": drift.get(row["last_run"], 0)})
        for row in rows
    ]


def newest_success(connection: sqlite3.Connection, feed: str) -> int:
    """The last run of a feed that succeeded; 0 if none has."""
    found = connection.execute(
        "select coalesce(max(id), 0) from run where feed = ? and outcome = 'succeeded' and not extract", (feed,)
    )
    return int(found.fetchone()[0])


def last_succeeded(store: Store, feed: str) -> str | None:
    """When a feed's last successful run ended; None if none has succeeded."""
    row = store.connection.execute(
        "select ended_at from run where feed = ? and outcome = 'succeeded' and not extract order by id desc limit 1", (feed,)
    ).fetchone()
    return row["ended_at"] if row else None
