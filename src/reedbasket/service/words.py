"""Notifications as people read them in their mail."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from typing import Any

from ..store.notifications import Notification

_SAID = {
    "failed": "failed",
    "recovered": "runs again",
    "succeeded": "succeeded",
    "rejects": "rejected records",
    "drift": "found a changed structure",
    "late": "is late",
}
# In a group each gets its lines; beyond so many only its name.
_MOST_TOLD = 20


def mail_subject(group: Sequence[Notification]) -> str:
    """The subject of a mail."""
    if len(group) == 1:
        return f"Reed Basket: {group[0].feed} {_SAID[group[0].event]}"
    counts = Counter(one.event for one in group)
    return "Reed Basket: " + ", ".join(f"{_feeds(group, what)} {_SAID[what]}" for what in counts)


def _feeds(group: Sequence[Notification], what: str) -> str:
    names = list(dict.fromkeys(one.feed for one in group if one.event == what))
    return names[0] if len(names) == 1 else f"{len(names)} feeds"


def mail_text(group: Sequence[Notification], url: str) -> str:
    """The text of a mail; url: of the console."""
    parts = [_one(notification, url) for notification in group[:_MOST_TOLD]]
    if len(group) > 1:
        sources = Counter(one.source for one in group if one.event == "failed")
        if sources and sources.most_common(1)[0][1] > 1:
            source, count = sources.most_common(1)[0]
            parts.insert(0, f"{count} of these read from {source}: check that first.\n")
    if len(group) > _MOST_TOLD:
        parts.append("And " + ", ".join(f"{one.feed} ({one.event})" for one in group[_MOST_TOLD:]) + "\n")
    return "\n".join(parts) + f"\nAll feeds: {url}/\n"


def _one(notification: Notification, url: str) -> str:
    facts = notification.facts
    lines = [f"{notification.feed} {_SAID[notification.event]}" + (f"   (run {notification.run})" if notification.run else "")]
    if notification.event == "late":
        lines.append(
            f"  It last succeeded at {facts['fresh_at']}, and should be no older than {_span(facts['fresh_within_seconds'])}."
        )
    error: dict[str, Any] | None = facts.get("error")
    if error and notification.event == "failed":
        lines.append(f"  {error['doing']} {error['on']}: {error['found']}  [{error['code']}]".rstrip())
        lines += [f"  {error['fix']}"] if error["fix"] else []
        lines += [f"  It was attempted {facts['attempt']} times."] if facts["attempt"] > 1 else []
    if facts.get("window"):
        lines.append(f"  Window {facts['window'][0]} to {facts['window'][1]}")
    if "counts" in facts and facts["tables"]:
        counts = ", ".join(f"{count:,} {name}" for name, count in facts["counts"].items() if count or name == "read")
        lines.append(f"  {counts}; {facts['tables']} tables, " + ("reconciled" if facts["reconciles"] else "NOT RECONCILED"))
    if notification.event == "drift":
        lines += [f"  {words}" for words in facts["drift"][:5]]
    where = f"{url}/runs/{notification.run}" if notification.run else f"{url}/feeds/{notification.feed}"
    return "\n".join([*lines, f"  {where}"]) + "\n"


def _span(seconds: float) -> str:
    for size, word in ((86400, "d"), (3600, "h"), (60, "min")):
        if seconds >= size and seconds % size == 0:
            return f"{seconds / size:g} {word}"
    return f"{seconds:g} s"
