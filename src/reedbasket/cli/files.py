"""files, rewind: which files of a feed were taken, and taking some again."""

from __future__ import annotations

import argparse

from ..client import find_client
from . import show

_STATES = {"bad": "red", "left": "yellow", "again": "yellow"}


def list_all(options: argparse.Namespace) -> int:
    client = find_client(options.url, options.token)
    found = client.files(options.feed, table=options.table, state=options.state, match=options.match, limit=options.limit)
    if options.json:
        return show.as_json(found)
    rows = [
        (
            line["table"],
            line["path"],
            show.Coloured(line["state"], _STATES[line["state"]]) if line["state"] in _STATES else line["state"],
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
        ["table", "file", "state", "rows", "rejected", "bytes", "changed", "load", "taken"],
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
    done = find_client(options.url, options.token).rewind(options.feed, options.table, files=options.file)
    if options.json:
        return show.as_json(done)
    print(f"The next run of {options.feed} takes {show.plural(done['files'], 'file')} once more.")
    return 0
