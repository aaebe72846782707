"""files, rewind: the files of a feed, and loading some again."""

from __future__ import annotations

import argparse

from ..client import connect
from . import show

_STATES = {"failed": "red", "ignored": "yellow", "requeued": "yellow"}


def list_all(options: argparse.Namespace) -> int:
    """`reed files`."""
    client = connect(options.url, options.token)
    found = client.feeds.files(options.feed, table=options.table, state=options.state, match=options.match, limit=options.limit)
    if options.json:
        return show.as_json(found)
    several = len({line["warehouse"] for line in found}) > 1
    rows = [
        (
            f"{line['table']} in {line['warehouse']}" if several else line["table"],
            line["path"],
            show.ColouredCell(line["state"], _STATES[line["state"]]) if line["state"] in _STATES else line["state"],
            show.count(line["rows"]),
            show.count(line["rejected"]) if line["rejected"] else "",
            show.count(line["size"]),
            show.local_time(line["modified"]) if line["modified"] else "",
            line["load"],
            show.ago(line["at"]) if line["at"] else "",
        )
        for line in found
    ]
    show.table(
        ["table", "file", "state", "rows", "rejected", "bytes", "changed", "load", "loaded"],
        rows,
        empty="No file yet; run the feed.",
        right=["rows", "rejected", "bytes", "load"],
    )
    for line in found:
        if line["problem"]:
            print(f"{line['path']}: {line['problem']}")
    if len(found) == options.limit:
        print(f"the latest {options.limit}; raise --limit, or narrow with --match")
    return 0


def rewind(options: argparse.Namespace) -> int:
    """`reed rewind`: of a cursor, or of files."""
    if not options.file:
        return _rewind_cursor(options)
    done = connect(options.url, options.token).feeds.rewind_files(options.feed, options.table, options.file)
    if options.json:
        return show.as_json(done)
    print(f"The next run of {options.feed} loads {show.plural(done['files'], 'file')} again.")
    return 0


def _rewind_cursor(options: argparse.Namespace) -> int:
    client = connect(options.url, options.token)
    done = client.feeds.rewind(options.feed, options.table, to=options.to, dry_run=options.dry_run)
    if options.json:
        return show.as_json(done)
    reads = "would read" if options.dry_run else "reads"
    print(
        f"The next run of {options.feed} {reads} {done['table']} from {done['now'] or 'the beginning'} on; the cursor was {done['was']}."
    )
    if options.dry_run:
        cost = [show.plural(done["records"], "record") if done["records"] is not None else "all records"]
        cost += [show.plural(done["requests"], "request")] if done["requests"] is not None else []
        cost += [f"roughly {done['seconds']:g} s"] if done["seconds"] is not None else []
        print(f"That is {', '.join(cost)}. Rows that are already loaded are recognised by their keys.")
    return 0
