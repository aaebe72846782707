"""Every request of every run, kept for some days."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Sequence
from dataclasses import asdict
from datetime import datetime

import orjson

from .. import wire
from ..core.errors import NotFound
from ..core.sources.requests_seen import RequestSeen
from ..wire.typed import typed
from .database import Store, text_of

_COLUMNS = (
    'number, at, "table", method, url, status, bytes, seconds, waited_seconds, attempt, problem, pause_seconds, pause_reason'
)
_AT_ONCE = 2_000
# Of a run that is asked to keep what went over the wire: so many requests, of at most 32 KiB each.
MOST_EXCHANGES = 1_000


def keep(connection: sqlite3.Connection, run: int, first: int, seen: Sequence[tuple[str, str, RequestSeen]]) -> None:
    """Write requests, within the caller's transaction.

    Args:
        first: the number of the first one.
        seen: (at, table, request).
    """
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
    connection.executemany(
        "insert into request_body (run, number, exchange) values (?, ?, ?)",
        [
            (run, number, orjson.dumps(asdict(one.exchange)).decode())
            for number, (_, _, one) in enumerate(seen, first)
            if one.exchange is not None and number <= MOST_EXCHANGES
        ],
    )


def read(store: Store, run: int, *, after: int = 0, limit: int = 500, failed: bool = False) -> list[wire.RequestLine]:
    """Requests with number > after, in order.

    Args:
        failed: only those that failed.
    """
    rows = store.connection.execute(
        f"""select {_COLUMNS}, exists (select 1 from request_body as b where b.run = r.run and b.number = r.number) as kept
            from request as r where run = ? and number > ? and (not ? or problem <> '') order by number limit ?""",
        (run, after, failed, limit),
    )
    return [typed(wire.RequestLine, row, kept=bool(row["kept"])) for row in rows]


def exchange(store: Store, run: int, number: int) -> wire.Exchange:
    """What was sent and received for one request.

    Raises:
        NotFound: it was not recorded.
    """
    row = store.connection.execute("select exchange from request_body where run = ? and number = ?", (run, number)).fetchone()
    if row is None:
        raise NotFound(
            "looking up the exchange of",
            f"request {number} of run {run}",
            found="it was not recorded",
            fix="failed requests are recorded, and all requests of a run with `--bodies`",
            code="request.not_recorded",
        )
    return typed(wire.Exchange, orjson.loads(row["exchange"]))


def read_all(store: Store, run: int) -> Iterator[list[wire.RequestLine]]:
    """All requests of a run, some at a time."""
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
