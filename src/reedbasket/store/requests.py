"""Every request of every run, kept for some days."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Sequence
from datetime import datetime
from typing import Any

from ..core.extract.http import RequestSeen
from .database import Store, text_of

_COLUMNS = (
    'number, at, "table", method, url, status, bytes, seconds, waited_seconds, attempt, problem, pause_seconds, pause_reason'
)
_AT_ONCE = 2_000


def keep(connection: sqlite3.Connection, run: int, first: int, seen: Sequence[tuple[str, str, RequestSeen]]) -> None:
    """seen: (at, table, request), numbered from `first`. Within the caller's transaction."""
    connection.executemany(
        f"insert into request (run, {_COLUMNS}) values (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        [
            (
                run,
                number,
                at,
                table,
                one.method,
                one.url,
                one.status,
                one.body_bytes,
                round(one.seconds, 4),
                round(one.waited_seconds, 4),
                one.attempt,
                one.problem,
                round(one.pause_seconds, 4),
                one.pause_reason,
            )
            for number, (at, table, one) in enumerate(seen, first)
        ],
    )


def read(store: Store, run: int, *, after: int = 0, limit: int = 500, failed: bool = False) -> list[dict[str, Any]]:
    """Requests with number > after, in order (wire.RequestLine). failed: only those that were."""
    rows = store.connection.execute(
        f"""select {_COLUMNS} from request where run = ? and number > ? and (not ? or problem <> '')
            order by number limit ?""",
        (run, after, failed, limit),
    )
    return [dict(row) for row in rows]


def read_all(store: Store, run: int) -> Iterator[list[dict[str, Any]]]:
    after = 0
    while some := read(store, run, after=after, limit=_AT_ONCE):
        yield some
        after = some[-1]["number"]


def since(store: Store, moment: datetime) -> dict[str, int]:
    """{feed: how many requests its runs have sent since then}."""
    rows = store.connection.execute(
        """select u.feed, count(*) as requests from request as r join run as u on u.id = r.run
           where r.at > ? group by u.feed""",
        (text_of(moment),),
    )
    return {row["feed"]: row["requests"] for row in rows}
