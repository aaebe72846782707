"""feeds, plan, ledger, verify, drift, rejects."""

from __future__ import annotations

import argparse
import json
from typing import TYPE_CHECKING

from ..client import Client, connect
from . import show

if TYPE_CHECKING:
    from .. import wire


def list_all(options: argparse.Namespace) -> int:
    """`reed feeds`."""
    found = connect(options.url, options.token).feeds.list()
    if options.json:
        return show.as_json(found)
    rows = []
    for feed in found:
        last = feed["last_run"]
        rows.append(
            (
                feed["name"],
                _state(feed),
                show.outcome(last["outcome"]) if last else "never run",
                show.ColouredCell(show.ago(feed["fresh_at"]) + ", late", "red") if feed["late"] else show.ago(feed["fresh_at"]),
                _when(feed),
                show.count(last["totals"]["read"]) if last else "",
                show.count(feed["rejects"]),
                f"{feed['source']} → {', '.join([feed['warehouse'], *feed['also']])}",
                len(feed["tables"]),
            )
        )
    show.table(
        ["feed", "state", "last run", "fresh", "next", "read", "rejects", "from → into", "tables"],
        rows,
        empty="No feeds yet; apply a basket with `reed apply FOLDER`.",
        right=["read", "rejects", "tables"],
    )
    return 0


def _state(feed: wire.Feed) -> str:
    return "paused" if feed["schedule"]["paused"] and feed["activity"] == "idle" else feed["activity"]


def _when(feed: wire.Feed) -> str:
    """When it runs next by itself."""
    state, rule = feed["schedule"], feed["schedule"]["rule"]
    if rule is None:
        return ""
    if state["paused"]:
        return "when resumed"
    waiting = state["windows"].get("waiting", 0)
    behind = f", {show.plural(waiting, 'window')} behind" if waiting else ""
    return (show.soon(state["next_due"]) if state["next_due"] else f"after {rule['after']}") + behind


def plan(options: argparse.Namespace) -> int:
    """`reed plan`; exits 1 if a table cannot be read."""
    made = connect(options.url, options.token).feeds.plan(options.feed)
    if options.json:
        return show.as_json(made)
    failed = False
    print(f"Feed {made['feed']}, version {made['version']}, into {made['warehouse']}. Nothing was written.")
    for table in made["tables"]:
        table["table"] += f" in {table['warehouse']}" if table["warehouse"] else ""
        print()
        if table["error"]:
            failed = True
            error = table["error"]
            print(f"{table['table']}: cannot be planned. {error['doing']}: {error['found']}  [{error['code']}]")
            continue
        _planned(table)
    if made["ignored"]:
        print(f"\nTables of the connector that are not part of this feed: {', '.join(made['ignored'])}")
    if options.full:
        import yaml

        print("\n" + yaml.safe_dump(made["full"], sort_keys=False, allow_unicode=True), end="")
    return 1 if failed else 0


def _planned(table: wire.PlannedTable) -> None:
    state = "exists" if table["exists"] else "will be created"
    if not table["table"]:
        print(f"{table['source_table']}: not read. {'; '.join(w['words'] for w in table['warnings'])}")
        return
    if table["parent"]:
        print(f"{table['table']}: {state}; child of {table['parent']}")
    else:
        deletes = f", deletes: {table['deletes']}" if table["deletes"] not in ("", "hard") else ""
        key = f", key {', '.join(table['key'])}" if table["key"] else ""
        print(f"{table['table']}: {state}; changes by {table['by']}, {table['write']}{key}{deletes}")
        if table["cursor_until"]:
            print(f"  from {table['cursor_from'] or 'the beginning'} until {table['cursor_until']}")
        print(f"  {_cost_of(table)}")
        _print_notes(table)
    if table["new_columns"]:
        print(show.wrapped([f"{c['name']} {c['type']}" for c in table["new_columns"]], "  + "))
    if table["exists"] and not table["new_columns"]:
        print(f"  no new columns; {len(table['columns'])} exist")
    if table["only_nulls"]:
        print(f"  only nulls so far, so no column yet: {', '.join(table['only_nulls'])}")
    if table["unmatched"]:
        print(f"  no record has what the feed names: {', '.join(table['unmatched'])}")


def _cost_of(table: wire.PlannedTable) -> str:
    if table["request"] == "nothing is due":
        cost = ["nothing is due"]
    elif table["records"] is None:
        cost = ["the source does not say how many records"]
    else:
        cost = [show.plural(table["records"], "record")]
    if table["requests"]:
        cost.append(show.plural(table["requests"], "request"))
    if table["seconds"] is not None:
        cost.append(f"about {table['seconds']:g} s of requests")
    return ", ".join(cost)


def _print_notes(table: wire.PlannedTable) -> None:
    for step in table["steps"]:
        print(f"  {step}")
    for loss in table["losses"]:
        print(f"  would be lost: {loss}; run with --allow-loss to accept that")
    for change in table["drift"]:
        print(f"  drift: {change['words']}")
    for warning in table["warnings"]:
        print(f"  note: {warning['words']}  [{warning['code']}]")
    if table["sample_filtered"]:
        print(f"  {table['sample_filtered']} of {table['sample_records']} records on the first page are left out by `filter`")
    if table["sample_rejects"]:
        print(f"  {table['sample_rejects']} of {table['sample_records']} records on the first page would be rejected")


def ledger(options: argparse.Namespace) -> int:
    """`reed ledger`."""
    found = connect(options.url, options.token).feeds.ledger(options.feed, limit=options.limit)
    if options.json:
        return show.as_json(found)
    several = len({line["warehouse"] for line in found}) > 1
    rows = [
        (
            line["load"],
            line["run"],
            *([line["warehouse"]] if several else []),
            line["table"],
            *(show.count(n) for n in (line["read"], line["inserted"], line["updated"], line["unchanged"], line["rejected"])),
            _others(line),
            show.ColouredCell("yes", "green") if line["reconciles"] else show.ColouredCell("NO", "red"),
            _short(line["cursor_to"]),
            show.local_time(line["ended"])[5:],
            line["write"],
        )
        for line in found
    ]
    numbers = ["read", "inserted", "updated", "unchanged", "rejected"]
    show.table(
        [
            "load",
            "run",
            *(["warehouse"] if several else []),
            "table",
            *numbers,
            "other",
            "reconciles",
            "cursor until",
            "ended",
            "write",
        ],
        rows,
        empty="No loads yet; run the feed.",
        right=["load", "run", *numbers],
    )
    return 0 if all(line["reconciles"] for line in found) else 1


def _others(line: wire.LedgerLine) -> str:
    """Counts that are seldom anything but 0: named only where they are."""
    counts = {n: line[n] for n in ("superseded", "deleted", "removed", "repeated", "filtered")}
    return ", ".join(f"{show.count(count)} {name}" for name, count in counts.items() if count)


def _short(time: str | None) -> str:
    return time.replace("T", " ").removesuffix("Z")[:19] if time else ""


def drift(options: argparse.Namespace) -> int:
    """`reed drift`."""
    found = connect(options.url, options.token).feeds.drift(options.feed, limit=options.limit)
    if options.json:
        return show.as_json(found)
    rows = [(show.ago(d["at"]), d["run"], d["warehouse"], d["source_table"], d["what"], d["words"]) for d in found]
    show.table(
        ["when", "run", "warehouse", "from", "what", "change"],
        rows,
        empty="No drift: the source's structure is as expected.",
        right=["run"],
        widest=100,
    )
    return 0


def verify(options: argparse.Namespace) -> int:
    """`reed verify`; exits 1 if something differs."""
    found = connect(options.url, options.token).feeds.verify(options.feed, table=options.table, deep=options.deep)
    if options.json:
        show.as_json(found)
        return 0 if all(t["same"] for t in found) else 1
    rows = []
    for table in found:
        counted = (table["only_source"], table["only_warehouse"], table["differing"])
        shown = ["—" if n is None else show.count(n) for n in counted]
        verdict = show.ColouredCell("same", "green") if table["same"] else show.ColouredCell("DIFFERS", "red")
        if table["error"]:
            verdict = show.ColouredCell(f"not verified: {table['error']['code']}", "red")
        rows.append((table["table"], show.count(table["source"]), show.count(table["warehouse"]), *shown, verdict))
    figures = ["source", "warehouse", "only source", "only warehouse", "differing"]
    show.table(["table", *figures, ""], rows, empty="No tables.", right=figures)
    if not options.deep:
        print("Counts and keys; --deep compares the values too.")
    for table in found:
        if table["error"]:
            print(f"\n{table['table']}: {table['error']['doing']}: {table['error']['found']}")
        if table["rejected"]:
            print(
                f"\n{table['table']}: {show.plural(table['rejected'], 'record')} of the source cannot be loaded; see `reed rejects`"
            )
        if table["lacking"]:
            print(f"\n{table['table']}: columns that no run has loaded yet: {', '.join(table['lacking'])}")
        for sample in table["samples"]:
            print(f"\n{table['table']} {', '.join(map(str, sample['key']))}: {sample['what']}")
            show.table(
                ["column", "source", "warehouse"], [(c, a, b) for c, (a, b) in sample["values"].items()], empty="", indent="  "
            )
    return 0 if all(t["same"] for t in found) else 1


def rejects(options: argparse.Namespace) -> int:
    """`reed rejects`, shown or written into a file."""
    client = connect(options.url, options.token)
    if options.to_file:
        return _to_file(client, options.feed, options.to_file)
    found = client.feeds.rejects(options.feed, limit=options.limit)
    if options.json:
        return show.as_json(found)
    for reject in found:
        times = f", met {reject['times']} times" if reject["times"] > 1 else ""
        print(f"{reject['source_table']}  {reject['field']}: {reject['message']}  [{reject['code']}]")
        print(
            f"  run {reject['run']}, {show.ago(reject['at'])}{times}"
            + (f", in {reject['warehouse']}" if reject["warehouse"] else "")
        )
        print(f"  {reject['record']}")
    if not found:
        print("No rejects.")
    else:
        print(f"\nFix the definition or the source, then `reed replay {options.feed}`.")
    return 0


def _to_file(client: Client, feed: str, path: str) -> int:
    """All of them, a JSON object a line: what it is and why, and the record as it came."""
    count, before = 0, None
    with open(path, "w", encoding="utf-8") as file:
        while part := client.feeds.rejects(feed, before=before, limit=1000):
            for reject in part:
                facts = {k: v for k, v in reject.items() if k != "record"}
                file.write(json.dumps(facts, ensure_ascii=False)[:-1] + f', "record": {reject["record"]}}}\n')
            count, before = count + len(part), part[-1]["id"]
    print(f"{show.plural(count, 'reject')} written to {path}.")
    return 0
