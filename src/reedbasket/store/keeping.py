"""Deleting old records, a few at a time, so that writers never wait for long."""

from __future__ import annotations

import time
from datetime import UTC, datetime, timedelta

from .database import Store, text_of

# Rows gone in one transaction: some 20 ms on a slow disk. Between two of them others get their turn.
_AT_ONCE = 2_000
ACTIVITY_DAYS = 8
_RUNS_AT_ONCE = 200
_PAUSE_SECONDS = 0.02


def purge(store: Store, *, requests_days: int, runs_days: int, rejects_days: int, audit_days: int) -> dict[str, int]:
    """Delete what is older than so many days. Returns how many of each kind. The ledger stays; it is a copy of the warehouses'."""
    gone = {"requests": _requests(store, requests_days)}
    gone["runs"], gone["lines"] = _runs(store, runs_days)
    for name, days, statement in (
        (
            "rejects",
            rejects_days,
            "delete from reject where id in (select id from reject where at < ? order by at limit ?)",
        ),
        ("audit", audit_days, "delete from audit where id in (select id from audit where at < ? order by at limit ?)"),
        (
            "notifications",
            runs_days,
            "delete from notification where id in (select id from notification where at < ? and state <> 'waiting' order by at limit ?)",
        ),
        (
            "drift",
            runs_days,
            "delete from drift where id in (select id from drift where at < ? order by id limit ?)",
        ),
        (
            "activity",
            ACTIVITY_DAYS,
            "delete from activity where (at, feed) in (select at, feed from activity where at < ? order by at limit ?)",
        ),
    ):
        gone[name] = _bit_by_bit(store, statement, _before(days))
    return gone


def _before(days: int) -> str:
    return text_of(datetime.now(UTC) - timedelta(days=days))


def _requests(store: Store, days: int) -> int:
    return _bit_by_bit(
        store, "delete from request where rowid in (select rowid from request where at < ? order by at limit ?)", _before(days)
    )


def _bit_by_bit(store: Store, statement: str, before: str) -> int:
    total = 0
    while True:
        with store.transaction() as connection:
            gone = connection.execute(statement, (before, _AT_ONCE)).rowcount
        total += gone
        if gone < _AT_ONCE:
            return total
        time.sleep(_PAUSE_SECONDS)


def _runs(store: Store, days: int) -> tuple[int, int]:
    """Delete runs and what belongs to them, except the latest of each feed, which shows the feed's state."""
    before, runs, lines = _before(days), 0, 0
    while True:
        found = store.connection.execute(
            """select id from run as r where ended_at < ? and id < (select max(id) from run where feed = r.feed)
               order by ended_at limit ?""",
            (before, _RUNS_AT_ONCE),
        ).fetchall()
        for row in found:
            lines += _log_of(store, row["id"])
        if found:
            ids = [(row["id"],) for row in found]
            with store.transaction() as connection:
                connection.executemany("delete from request where run = ?", ids)
                connection.executemany("delete from run_table where run = ?", ids)
                connection.executemany("update run set resumes = null where resumes = ?", ids)
                connection.executemany("delete from run where id = ?", ids)
            runs += len(found)
            time.sleep(_PAUSE_SECONDS)
        if len(found) < _RUNS_AT_ONCE:
            return runs, lines


def _log_of(store: Store, run: int) -> int:
    total = 0
    while True:
        with store.transaction() as connection:
            gone = connection.execute(
                "delete from log where run = ? and number in (select number from log where run = ? order by number limit ?)",
                (run, run, _AT_ONCE),
            ).rowcount
        total += gone
        if gone < _AT_ONCE:
            return total
        time.sleep(_PAUSE_SECONDS)
