"""schedules, pause, resume, windows, backfill, backfills, notifications."""

from __future__ import annotations

import argparse
import time
from typing import TYPE_CHECKING, Any

from ..client import Client, connect
from . import show

if TYPE_CHECKING:
    from .. import wire

_STATE_COLOURS = {"done": "green", "failed": "red", "queued": "cyan", "waiting": "cyan", "skipped": "yellow"}
_LOOK_SECONDS = 0.5
_MARKS = {"done": "■", "failed": "✗", "queued": "▸", "waiting": "·", "skipped": "–"}


def pause(options: argparse.Namespace) -> int:
    """`reed pause`."""
    client = connect(options.url, options.token)
    for feed in options.feed:
        client.feeds.pause(feed)
        print(f"Paused {feed}: it runs only when somebody starts it. Resume it with `reed resume {feed}`.")
    return 0


def resume(options: argparse.Namespace) -> int:
    """`reed resume`."""
    client = connect(options.url, options.token)
    for feed in options.feed:
        state = client.feeds.resume(feed)["schedule"]
        print(f"Resumed {feed}" + (f", next {show.local_time(state['next_due'])}." if state["next_due"] else "."))
    return 0


def list_all(options: argparse.Namespace) -> int:
    """`reed schedules`."""
    found = connect(options.url, options.token).feeds.schedules()
    if options.json:
        return show.as_json(found)
    rows = [
        (
            one["feed"],
            show.ColouredCell("paused", "yellow") if one["schedule"]["paused"] else one["activity"],
            _rule(one["schedule"]["rule"] or {}),
            show.soon(one["schedule"]["next_due"]),
            "".join(_MARKS[window["state"]] for window in one["latest"]),
        )
        for one in found
    ]
    show.table(["feed", "state", "schedule", "next", "latest windows"], rows, empty="No feed has a schedule.")
    if any(one["latest"] for one in found):
        print("\n" + ", ".join(f"{mark} {state}" for state, mark in _MARKS.items()))
    return 0


def _rule(rule: dict[str, Any]) -> str:
    """{every: 5m, jitter: 10s} -> 'every 5m, jitter 10s'"""
    words = []
    for name, value in rule.items():
        words.append(f"for each {value['length']}" if name == "windows" else f"{name} {value}")
    return ", ".join(words)


def windows(options: argparse.Namespace) -> int:
    """`reed windows`, shown or run once more."""
    client = connect(options.url, options.token)
    if options.retry:
        start, _, until = options.retry.partition("/")
        count = client.feeds.retry_windows(options.feed, start, until or "9999-12-31")["count"]
        print(f"{show.plural(count, 'window')} will run again.")
        return 0
    found = client.feeds.windows(options.feed, state=options.state, limit=options.limit)
    if options.json:
        return show.as_json(found)
    rows = [
        (
            show.cell(w["begins"]),
            show.cell(w["ends"]),
            show.ColouredCell(w["state"], _STATE_COLOURS[w["state"]]),
            w["run"] or "",
            f"backfill {w['backfill']}" if w["backfill"] else "",
        )
        for w in found
    ]
    show.table(
        ["from", "until", "state", "run", "of"],
        rows,
        empty="No windows: its schedule has none, or none are due yet.",
        right=["run"],
    )
    return 0


def backfill(options: argparse.Namespace) -> int:
    """`reed backfill`."""
    client = connect(options.url, options.token)
    made = client.feeds.backfill(options.feed, getattr(options, "from"), options.until, options.length)
    if options.json and options.no_wait:
        return show.as_json(made)
    if not options.json:
        print(f"Backfill {made['id']} of {made['feed']}: {show.plural(made['windows'], 'window')}, one run each.")
    return 0 if options.no_wait else _follow(client, made, options.json)


def _follow(client: Client, made: wire.Backfill, as_json: bool) -> int:
    said = ""
    while made["state"] in ("active", "paused"):
        words = _far(made)
        if words != said and not as_json:
            print(words, flush=True)
            said = words
        time.sleep(_LOOK_SECONDS)
        made = next(one for one in client.backfills.list(made["feed"]) if one["id"] == made["id"])
    if as_json:
        show.as_json(made)
    else:
        print(_far(made))
    return 0 if made["state"] == "done" and not made["counts"].get("failed") else 1


def _far(one: wire.Backfill) -> str:
    counts = one["counts"]
    failed = f", {counts['failed']} failed" if counts.get("failed") else ""
    return f"  {counts.get('done', 0)} of {one['windows']} done{failed}  [{one['state']}]"


def backfills(options: argparse.Namespace) -> int:
    """`reed backfills`, shown, paused, resumed or cancelled."""
    client = connect(options.url, options.token)
    for action in ("pause", "resume", "cancel"):
        number = getattr(options, action)
        if number is not None:
            one = getattr(client.backfills, action)(number)
            print(f"Backfill {one['id']} of {one['feed']} is {one['state']}: {_far(one).strip()}")
            return 0
    found = client.backfills.list(options.feed)
    if options.json:
        return show.as_json(found)
    rows = [
        (
            b["id"],
            b["feed"],
            b["state"],
            f"{b['counts'].get('done', 0)} of {b['windows']}",
            b["counts"].get("failed", 0),
            b["begins"],
            b["ends"],
            b["length"],
            show.ago(b["asked_at"]),
            b["asked_by"],
        )
        for b in found
    ]
    show.table(
        ["backfill", "feed", "state", "done", "failed", "from", "until", "length", "asked for", "by"],
        rows,
        empty="No backfills; start one with `reed backfill FEED --from DAY --until DAY --length 1d`.",
        right=["backfill", "failed"],
    )
    return 0


def notifications(options: argparse.Namespace) -> int:
    """`reed notifications`, shown or sent once more."""
    client = connect(options.url, options.token)
    if options.retry:
        print(f"{show.plural(client.notifications.retry()['count'], 'notification')} will be tried again.")
        return 0
    found = client.notifications.list(state=options.state, limit=options.limit)
    if options.json:
        return show.as_json(found)
    colours = {"sent": "green", "undeliverable": "red", "waiting": "cyan"}
    rows = [
        (
            show.ago(n["at"]),
            n["event"],
            n["feed"],
            n["run"] or "",
            show.ColouredCell(n["state"], colours[n["state"]]),
            n["goes_to"],
            n["problem"],
        )
        for n in found
    ]
    show.table(
        ["when", "event", "feed", "run", "state", "to", "problem"],
        rows,
        empty="No notifications.",
        right=["run"],
        widest=80,
    )
    return 0
