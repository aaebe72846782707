"""feeds, plan, ledger, rejects."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from ..client import find_client
from . import show

if TYPE_CHECKING:
    from .. import wire


def list_all(options: argparse.Namespace) -> int:
    found = find_client(options.url, options.token).feeds()
    if options.json:
        return show.as_json(found)
    rows = []
    for feed in found:
        last = feed["last_run"]
        rows.append(
            (
                feed["name"],
                feed["activity"],
                show.outcome(last["outcome"]) if last else "never run",
                show.ago(feed["fresh_at"]),
                show.count(last["totals"]["read"]) if last else "",
                show.count(feed["rejects"]),
                f"{feed['source']} → {feed['warehouse']}",
                len(feed["tables"]),
            )
        )
    show.table(
        ["feed", "state", "last run", "fresh", "read", "rejects", "from → into", "tables"],
        rows,
        empty="No feeds yet; apply a basket with `reed apply FOLDER`.",
        right=["read", "rejects", "tables"],
    )
    return 0


def plan(options: argparse.Namespace) -> int:
    made = find_client(options.url, options.token).plan(options.feed)
    if options.json:
        return show.as_json(made)
    failed = False
    print(f"Feed {made['feed']}, version {made['version']}, into {made['warehouse']}. Nothing was written.")
    for table in made["tables"]:
        print()
        if table["error"]:
            failed = True
            error = table["error"]
            print(f"{table['table']}: cannot be planned. {error['doing']}: {error['found']}  [{error['code']}]")
            continue
        _planned(table)
    if made["ignored"]:
        print(f"\nOffered by the connector, not part of this feed: {', '.join(made['ignored'])}")
    if options.full:
        import yaml

        print("\n" + yaml.safe_dump(made["full"], sort_keys=False, allow_unicode=True), end="")
    return 1 if failed else 0


def _planned(table: wire.PlannedTable) -> None:
    state = "exists" if table["exists"] else "would be made"
    if table["parent"]:
        print(f"{table['table']}: {state}; child of {table['parent']}")
    else:
        key = f", key {', '.join(table['key'])}" if table["key"] else ""
        print(f"{table['table']}: {state}; changes by {table['by']}, {table['write']}{key}")
        if table["cursor_until"]:
            print(f"  from {table['cursor_from'] or 'the beginning'} until {table['cursor_until']}")
        cost = [
            show.plural(table["records"], "record")
            if table["records"] is not None
            else "how many records, the source does not say"
        ]
        if table["requests"] is not None:
            cost.append(show.plural(table["requests"], "request"))
        if table["seconds"] is not None:
            cost.append(f"roughly {table['seconds']:g} s of asking")
        print(f"  {', '.join(cost)}")
        if table["sample_rejects"]:
            print(f"  {table['sample_rejects']} of {table['sample_records']} records on the first page would be rejected")
    if table["new_columns"]:
        print(show.wrapped([f"{c['name']} {c['type']}" for c in table["new_columns"]], "  + "))
    if table["exists"] and not table["new_columns"]:
        print(f"  no new columns; {len(table['columns'])} are there")
    if table["only_nulls"]:
        print(f"  only nulls so far, no column yet: {', '.join(table['only_nulls'])}")


def ledger(options: argparse.Namespace) -> int:
    found = find_client(options.url, options.token).ledger(options.feed, limit=options.limit)
    if options.json:
        return show.as_json(found)
    rows = [
        (
            line["load"],
            line["run"],
            line["table"],
            *(show.count(n) for n in (line["read"], line["inserted"], line["updated"], line["unchanged"], line["rejected"])),
            _others(line),
            show.Coloured("yes", "green") if line["reconciles"] else show.Coloured("NO", "red"),
            _short(line["cursor_to"]),
            show.local_time(line["ended"])[5:],
            line["write"],
        )
        for line in found
    ]
    numbers = ["read", "inserted", "updated", "unchanged", "rejected"]
    show.table(
        ["load", "run", "table", *numbers, "other", "reconciles", "cursor to", "ended", "write"],
        rows,
        empty="No loads yet; run the feed.",
        right=["load", "run", *numbers],
    )
    return 0 if all(line["reconciles"] for line in found) else 1


def _others(line: wire.LedgerLine) -> str:
    """Counts that are seldom anything but 0: named only where they are."""
    counts = {n: line[n] for n in ("superseded", "deleted", "removed", "repeated")}
    return ", ".join(f"{show.count(count)} {name}" for name, count in counts.items() if count)


def _short(time: str | None) -> str:
    return time.replace("T", " ").removesuffix("Z")[:19] if time else ""


def rejects(options: argparse.Namespace) -> int:
    found = find_client(options.url, options.token).rejects(options.feed, limit=options.limit)
    if options.json:
        return show.as_json(found)
    for reject in found:
        times = f", met {reject['times']} times" if reject["times"] > 1 else ""
        print(f"{reject['source_table']}  {reject['field']}: {reject['message']}  [{reject['code']}]")
        print(f"  run {reject['run']}, {show.ago(reject['at'])}{times}")
        print(f"  {reject['record']}")
    if not found:
        print("No rejects.")
    return 0
