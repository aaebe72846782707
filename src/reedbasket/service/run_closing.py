"""What follows the end of a run: another attempt, the state of its window, and notifications. In one transaction, once."""

from __future__ import annotations

import logging
import random
import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

from .. import wire
from ..core.spec.model import Feed, Notify, Webhook
from ..store import Store, definitions, journal, notifications, runs, schedule
from ..store.database import text_of

log = logging.getLogger("reedbasket.runs")
_LONGEST_PAUSE = timedelta(hours=1)
_COUNTS = ("read", "inserted", "updated", "deleted", "unchanged", "superseded", "rejected", "removed")


@dataclass(frozen=True)
class NotificationRules:
    """How notifications are sent.

    Attributes:
        default: who is notified about feeds that do not say so themselves.
        seconds: notifications to one recipient within this time are sent together, since a source that is down fails many feeds.
    """

    default: Notify | None
    seconds: int


def follow_up(store: Store, run: int, telling: NotificationRules) -> str | None:
    """Do what follows the end of a run, unless it was done. Returns the run's feed, whose schedule has to be looked at again; None if
    there was nothing to do.
    """
    row = runs.get(store, run)
    feed = row["feed"]
    definition = definitions.basket(store).feeds.get(feed)
    facts = _facts(store, row)
    with store.transaction() as connection:
        if not runs.mark_followed_up(connection, run):
            return None
        outcome = row["outcome"]
        _count(connection, feed, outcome, facts["counts"])
        again = (
            definition is not None
            and outcome == "failed"
            and _tries_again(connection, row, definition, definitions.feed_version(store, feed))
        )
        if outcome in ("failed", "cancelled") and not again:
            schedule.set_window_state(connection, "failed" if outcome == "failed" else "skipped", run=run)
        schedule.end_backfills(connection, feed)
        if definition is not None and not again:
            _tell(connection, row, definition, facts, telling)
    level = logging.WARNING if outcome in ("failed", "interrupted") else logging.INFO
    ended = {
        "run": run,
        "feed": feed,
        "outcome": outcome,
        "trigger": row["trigger"],
        "tries_again": bool(again),
        **facts["counts"],
    }
    if row["error"]:
        ended["code"] = row["error"]["code"]
    log.log(level, "run %s of %s %s", run, feed, outcome, extra={"facts": ended})
    return feed


def _count(connection: sqlite3.Connection, feed: str, outcome: str, counts: dict[str, int]) -> None:
    grown = {f"run {outcome}": 1, **{f"rows {name}": count for name, count in counts.items() if count}}
    connection.executemany(
        """insert into tally (feed, what, count) values (?, ?, ?)
           on conflict (feed, what) do update set count = count + excluded.count""",
        [(feed, what, count) for what, count in grown.items()],
    )


def _tries_again(connection: sqlite3.Connection, row: wire.Run, feed: Feed, version: int) -> bool:
    rule = feed.retry_runs
    error: dict[str, Any] = {**row["error"]} if row["error"] else {}
    if row["trigger"] == "manual" or row["attempt"] > rule.attempts:
        return False
    worth_it = (
        error.get("code") in rule.error_codes if rule.error_codes is not None else error.get("retryable") or _may_pass(error)
    )
    if not worth_it:
        return False
    pause = min(rule.first_wait * 2 ** (row["attempt"] - 1), _LONGEST_PAUSE) * random.uniform(0.9, 1.1)
    if error.get("wait_seconds"):
        pause = max(pause, timedelta(seconds=error["wait_seconds"]))
    begins = text_of(datetime.now(UTC) + pause)
    try:
        again = runs.queue_again(connection, row["id"], version, not_before=begins, retries=True)
    except sqlite3.IntegrityError:
        return False  # somebody asked for one meanwhile, which is as good
    words = f"run {again} tries again at {begins[11:19]} UTC, attempt {row['attempt'] + 1} of {rule.attempts + 1}"
    journal.save_log(
        connection, row["id"], journal.next_number_in(connection, row["id"]), [journal.line("info", "run.retried", words)]
    )
    return True


def _may_pass(error: dict[str, Any]) -> bool:
    """Errors that come of what others do at the same time."""
    return error.get("code") in ("warehouse.busy", "warehouse.cursor_moved", "run.defect")


def _tell(connection: sqlite3.Connection, row: wire.Run, feed: Feed, facts: dict[str, Any], telling: NotificationRules) -> None:
    failing, late = notifications.health(connection, feed.feed)
    what: list[str] = []
    if row["outcome"] == "failed":
        what += [] if failing else ["failed"]
        notifications.save_health(connection, feed.feed, failing=True, late=late)
    elif row["outcome"] == "succeeded":
        what += ["recovered"] if failing or late else []
        what += ["succeeded"]
        notifications.save_health(connection, feed.feed, failing=False, late=False)
    what += ["rejects"] if facts["counts"]["rejected"] else []
    what += ["drift"] if facts["drift"] else []
    for one in what:
        add_notification(connection, one, feed, row["id"], facts, telling)


def add_notification(
    connection: sqlite3.Connection, what: str, feed: Feed, run: int | None, facts: dict[str, Any], telling: NotificationRules
) -> None:
    """Add a notification, within the caller's transaction, if anybody wants it."""
    rule = feed.notify or telling.default
    if rule is None or what not in rule.events:
        return
    goes_at = datetime.now(UTC) + timedelta(seconds=telling.seconds)
    notifications.add(connection, what, feed.feed, feed.source, run, facts, recipients(rule.email, rule.webhook), goes_at)


def recipients(mail: Sequence[str], web: Sequence[Webhook]) -> list[notifications.Recipient]:
    """Who is notified about a feed."""
    found = [notifications.Recipient("email", address) for address in mail]
    return found + [notifications.Recipient("webhook", hook.url, hook.secret.secret if hook.secret else None) for hook in web]


def _facts(store: Store, row: wire.Run) -> dict[str, Any]:
    lines = journal.read_ledger(store, run=row["id"], limit=1000)
    counts = {name: sum(line[name] for line in lines) for name in _COUNTS}  # type: ignore[literal-required]
    counts["rejected"] = max(counts["rejected"], row["totals"]["rejected"])
    error = row["error"]
    shown = {name: error[name] for name in ("code", "doing", "on", "found", "fix")} if error else None
    drifted = [change["words"] for change in journal.drift_of_run(store, row["id"])]
    return {
        "outcome": row["outcome"],
        "attempt": row["attempt"],
        "window": row["window"],
        "started_at": row["started_at"],
        "ended_at": row["ended_at"],
        "error": shown,
        "counts": counts,
        "tables": len({line["table"] for line in lines}),
        "reconciles": all(line["reconciles"] for line in lines),
        "drift": drifted[:20],
    }
