"""Notifications: written in the transaction of what they are about, and sent later."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Literal

from .. import wire
from ..wire.typed import typed
from .database import Store, now_text, text_of

Channel = Literal["email", "webhook"]


@dataclass(frozen=True)
class Recipient:
    """Where notifications go; goes_to: a mail address, or a URL whose requests are signed with `secret`."""

    channel: Channel
    goes_to: str
    secret: str | None = None


@dataclass(frozen=True)
class Notification:
    """One notification."""

    id: int
    at: str
    event: str
    feed: str
    source: str
    run: int | None
    facts: dict[str, Any]
    channel: Channel
    goes_to: str
    secret: str | None
    tries: int


def health(connection: sqlite3.Connection, feed: str) -> tuple[bool, bool]:
    """(failing, late), as it was last notified."""
    row = connection.execute("select failing, late from feed_health where feed = ?", (feed,)).fetchone()
    return (bool(row["failing"]), bool(row["late"])) if row else (False, False)


def save_health(connection: sqlite3.Connection, feed: str, *, failing: bool, late: bool) -> None:
    """Save whether a feed fails or is late, so that a change can be notified."""
    connection.execute(
        """insert into feed_health (feed, failing, late) values (?, ?, ?)
           on conflict (feed) do update set failing = excluded.failing, late = excluded.late""",
        (feed, failing, late),
    )


def add(  # noqa: PLR0913 - a column each
    connection: sqlite3.Connection,
    event: str,
    feed: str,
    source: str,
    run: int | None,
    facts: dict[str, Any],
    to: Sequence[Recipient],
    goes_at: datetime,
) -> None:
    """Add a notification, within the caller's transaction.

    Args:
        goes_at: until then, others to the same recipient may join it.
    """
    connection.executemany(
        """insert into notification (at, event, feed, source, run, facts, channel, goes_to, secret, state, next_at)
           values (?, ?, ?, ?, ?, ?, ?, ?, ?, 'waiting', ?)""",
        [
            (now_text(), event, feed, source, run, json.dumps(facts), one.channel, one.goes_to, one.secret, text_of(goes_at))
            for one in to
        ],
    )


def due(store: Store, now: datetime) -> list[list[Notification]]:
    """What has to be sent now: a list for each recipient with one that is due, with everything that waits for the same recipient."""
    rows = store.connection.execute(
        """select id, at, event, feed, source, run, facts, channel, goes_to, secret, tries from notification
           where state = 'waiting' and (channel, goes_to) in
               (select channel, goes_to from notification where state = 'waiting' and next_at <= ?)
           order by channel, goes_to, id limit 2000""",
        (text_of(now),),
    )
    groups: dict[tuple[str, str], list[Notification]] = {}
    for row in rows:
        found = Notification(**{**dict(row), "facts": json.loads(row["facts"])})
        groups.setdefault((found.channel, found.goes_to), []).append(found)
    return list(groups.values())


def sent(store: Store, ids: Sequence[int]) -> None:
    """Mark notifications as sent."""
    with store.transaction() as connection:
        connection.executemany(
            "update notification set state = 'sent', sent_at = ?, tries = tries + 1, problem = '' where id = ?",
            [(now_text(), one) for one in ids],
        )


def not_sent(store: Store, ids: Sequence[int], problem: str, next_at: datetime, most_tries: int) -> None:
    """Mark notifications to be tried again, or as given up."""
    with store.transaction() as connection:
        connection.executemany(
            """update notification set tries = tries + 1, problem = ?, next_at = ?,
                   state = case when tries + 1 >= ? then 'undeliverable' else 'waiting' end where id = ?""",
            [(problem, text_of(next_at), most_tries, one) for one in ids],
        )


def latest(store: Store, *, state: str | None = None, limit: int = 100) -> list[wire.Notification]:
    """The latest first."""
    rows = store.connection.execute(
        """select id, at, event, feed, run, channel, goes_to, state, tries, next_at, problem, sent_at from notification
           where ? is null or state = ? order by id desc limit ?""",
        (state, state, limit),
    )
    return [typed(wire.Notification, row) for row in rows]


def send_again(store: Store) -> int:
    """Try again those that were given up. Returns their number."""
    with store.transaction() as connection:
        return connection.execute(
            "update notification set state = 'waiting', tries = 0, next_at = ? where state = 'undeliverable'", (now_text(),)
        ).rowcount
