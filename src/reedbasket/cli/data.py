"""check, warehouses, tables, profile, rows, sql: looking at a warehouse."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from ..client import connect
from . import show

if TYPE_CHECKING:
    from .. import wire


def warehouses(options: argparse.Namespace) -> int:
    """`reed warehouses`."""
    found = connect(options.url, options.token).warehouses.list()
    if options.json:
        return show.as_json(found)
    rows = [(one["name"], one["type"], one["where"], one["description"]) for one in found]
    show.table(["warehouse", "type", "where", "description"], rows, empty="No warehouses yet; apply a basket that defines one.")
    return 0


def tables(options: argparse.Namespace) -> int:
    """`reed tables`."""
    found = connect(options.url, options.token).warehouses.tables(options.warehouse)
    if options.json:
        return show.as_json(found)
    rows = [
        (t["name"], show.count(t["rows"]), len(t["columns"]), t["feed"], t["last_load"], show.ago(t["loaded_at"]))
        for t in found
    ]
    show.table(
        ["table", "rows", "columns", "feed", "last load", "loaded"],
        rows,
        empty="No tables yet; run a feed.",
        right=["rows", "columns", "last load"],
    )
    return 0


def rows(options: argparse.Namespace) -> int:
    """`reed rows`."""
    client = connect(options.url, options.token)
    return _print(
        client.warehouses.rows(options.warehouse, options.table, limit=options.limit, offset=options.offset), options.json
    )


def sql(options: argparse.Namespace) -> int:
    """`reed sql`."""
    client = connect(options.url, options.token)
    return _print(client.warehouses.query(options.warehouse, options.statement, limit=options.limit), options.json)


def check(options: argparse.Namespace) -> int:
    """`reed check`; exits 1 if a step fails."""
    client = connect(options.url, options.token)
    is_source = any(source["name"] == options.name for source in client.sources.list())
    steps = client.sources.check(options.name) if is_source else client.warehouses.check(options.name)
    failed = any(step["ok"] is False for step in steps)
    if options.json:
        show.as_json(steps)
        return 1 if failed else 0
    marks = {True: show.ColouredCell("ok", "green"), False: show.ColouredCell("FAILED", "red"), None: "not reached"}
    show.table(["step", "result", "found"], [(s["step"], marks[s["ok"]], s["found"]) for s in steps], empty="", widest=100)
    for step in steps:
        if step["fix"]:
            print(f"\n{step['step']}: to fix it\n  {step['fix']}")
    return 1 if failed else 0


def profile(options: argparse.Namespace) -> int:
    """`reed profile`."""
    found = connect(options.url, options.token).warehouses.profile(options.warehouse, options.table)
    if options.json:
        return show.as_json(found)
    rows = [
        (c["name"], c["type"], show.count(c["nulls"]), show.count(c["distinct"]), c["min"], c["max"], " · ".join(c["examples"]))
        for c in found["columns"]
    ]
    print(f"{found['table']}: {show.plural(found['rows'], 'row')}")
    show.table(["column", "type", "nulls", "distinct", "min", "max", "examples"], rows, empty="", right=["nulls", "distinct"])
    return 0


def _print(found: wire.Rows, as_json: bool) -> int:
    if as_json:
        return show.as_json(found)
    names = [c["name"] for c in found["columns"]]
    numbers = [
        n for i, n in enumerate(names) if found["rows"] and all(isinstance(r[i], int | float | None) for r in found["rows"])
    ]
    show.table(names, found["rows"], empty=f"No rows. Columns: {', '.join(names)}", right=numbers)
    if found["truncated"]:
        print(f"… more than {len(found['rows'])} rows; raise --limit to see them")
    return 0
