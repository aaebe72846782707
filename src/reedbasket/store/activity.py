"""What was loaded over time, in steps of ten minutes for each feed, as the store's triggers add it up."""

from __future__ import annotations

from datetime import datetime, timedelta

from .. import wire
from ..wire.typed import typed
from .database import Store, text_of

# Beyond it nothing is kept.
MOST_HOURS = 168
_STEPS = ((12, 10), (48, 30), (MOST_HOURS, 180))


def read(store: Store, now: datetime, hours: int) -> wire.Activity:
    """The last so many hours, in steps of ten minutes to three hours, empty ones included."""
    minutes = next(step for most, step in _STEPS if hours <= most)
    step = minutes * 60
    last = int(now.timestamp()) // step
    first = last - hours * 60 // minutes + 1
    begin = text_of(datetime.fromtimestamp(first * step, now.tzinfo) - timedelta(seconds=1))
    rows = store.connection.execute(
        """select cast(strftime('%s', at) as integer) / ? as part, feed, sum(loads) as loads, sum(read) as read, sum(written) as written,
                  sum(rejected) as rejected, sum(bytes) as bytes, sum(runs) as runs, sum(failed) as failed
           from activity where at > ? group by part, feed""",
        (step, begin),
    ).fetchall()
    names = ("loads", "read", "written", "rejected", "bytes", "runs", "failed")
    parts = [
        {"at": text_of(datetime.fromtimestamp(part * step, now.tzinfo)), **dict.fromkeys(names, 0)}
        for part in range(first, last + 1)
    ]
    feeds: dict[str, list[int]] = {}
    for row in rows:
        place = row["part"] - first
        if not 0 <= place < len(parts):
            continue  # a clock that jumped
        for name in names:
            parts[place][name] += row[name]
        feeds.setdefault(row["feed"], [0] * len(parts))[place] += row["written"]
    return {"step_seconds": step, "parts": [typed(wire.ActivityPart, part) for part in parts], "feeds": feeds}
