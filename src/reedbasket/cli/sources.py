"""sources, survey, preview, requests: looking at sources, and at what was requested."""

from __future__ import annotations

import argparse
import json
import re
from contextlib import suppress
from typing import TYPE_CHECKING

from ..client import ServiceProblem, connect
from . import show

if TYPE_CHECKING:
    from .. import wire

_BODY_LINES = 24
# The innermost lists and objects, which read better on one line where they are short.
_SHORT = re.compile(r"[\[{]\n[^\[\]{}]*[\]}]")
_SHORT_WIDTH = 100


def list_all(options: argparse.Namespace) -> int:
    """`reed sources`."""
    found = connect(options.url, options.token).sources.list()
    if options.json:
        return show.as_json(found)
    rows = []
    for source in found:
        state = "cooling down until " + show.local_time(source["rests_until"])[11:] if source["rests_until"] else ""
        state = state or ("somebody has to sign in" if source["person"] and not source["signed_in"] else "")
        state = state or "; ".join(_ahead(lag) for lag in source["lags"])
        feeds = ", ".join(source["feeds"])
        requested = not source["database"] and not source["files"]
        tables = len(source["tables"]) if requested else ""
        paced = pace(source) if requested else ""
        rows.append((source["name"], source["connector"], source["base_url"], tables, feeds, paced, state))
    show.table(
        ["source", "connector", "address", "tables", "feeds", "pace", "state"],
        rows,
        empty="No sources yet; apply a basket with `reed apply FOLDER`.",
        right=["tables"],
    )
    return 0


def _ahead(lag: wire.FollowedLag) -> str:
    """As the feed's last run found it."""
    if lag["transactions"] == 0:
        return f"{lag['feed']}: at the log's end"
    late = "" if lag["seconds"] is None else f", {lag['seconds']:.1f} s"
    return f"{lag['feed']}: {show.plural(lag['transactions'], 'transaction')} behind{late}"


def pace(source: wire.Source) -> str:
    """How soon a source may be asked, in words."""
    said = source["rate_limit"]
    words = [f"{said['per_second']:g}/s"] if said["per_second"] else []
    words += [f"{said[key]:,}/{unit}" for key, unit in (("per_hour", "h"), ("per_day", "day")) if said[key]]
    return ", ".join([*words, f"{said['concurrency']} at once"])


def survey(options: argparse.Namespace) -> int:
    """`reed survey`; exits 1 if a table could not be read."""
    client = connect(options.url, options.token)
    database = client.sources.get(options.source)["database"]
    found = client.sources.survey(options.source, match=options.tables, exclude=options.exclude)
    if options.tables and not database and not client.sources.get(options.source)["files"]:
        found = [table for table in found if table["table"] in options.tables]
    failed = any(table["error"] for table in found)
    if options.json:
        show.as_json(found)
        return 1 if failed else 0
    if database and len(found) != 1:
        _catalog(found)
        return 0
    for number, table in enumerate(found):
        print("\n" * bool(number), end="")
        (_described if database else _surveyed)(table)
    return 1 if failed else 0


def _catalog(found: list[wire.SurveyedTable]) -> None:
    rows = [
        (
            table["table"],
            table["what"] if table["readable"] else show.ColouredCell("may not be read", "red"),
            show.count(table["total"]) if table["total"] is not None else "",
            len(table["columns"]),
            ", ".join(table["key"]),
            table["cursors"][0] if table["cursors"] else "",
            ", ".join(method["by"] for method in table["methods"]),
        )
        for table in found
    ]
    show.table(
        ["table", "what", "rows about", "columns", "key", "cursor could be", "changes by"],
        rows,
        empty="No table or view matches.",
        right=["rows about", "columns"],
    )
    if found:
        print(f"{show.plural(len(found), 'table')}; name one to see its columns, and what each way of finding changes misses")


def _described(table: wire.SurveyedTable) -> None:
    about = f": {table['description']}" if table["description"] else ""
    print(f"{table['table']}{about}")
    rows = f"about {show.plural(table['total'], 'row')}" if table["total"] is not None else "rows not counted"
    key = f"key {', '.join(table['key'])}" if table["key"] else "no key declared"
    print(f"  {table['what']}, {rows}; {key}")
    roles = dict.fromkeys(table["key"], "key")
    show.table(
        ["column", "declared", "type", "null", "could be", "index"],
        [
            (
                c["name"],
                c["declared"],
                c["type"] or "by its values",
                "" if c["nullable"] else "never",
                roles.get(c["name"]) or ("cursor" if c["name"] in table["cursors"] else ""),
                "first column" if c["name"] in table["indexed"] else "",
            )
            for c in table["columns"]
        ],
        empty="  no column",
        indent="  ",
    )
    print("  changes can be found by")
    for method in table["methods"]:
        print(f"    {method['by']:<12} misses {method['misses']}")


def setup_sql(options: argparse.Namespace) -> int:
    """`reed setup-sql`."""
    found = connect(options.url, options.token).sources.setup_sql(options.source)
    if options.json:
        return show.as_json(found)
    for one in found:
        print(f"-- {one['why']}")
        if one["sql"]:
            print(one["sql"])
    return 0


def _surveyed(table: wire.SurveyedTable) -> None:
    about = f": {table['description']}" if table["description"] else ""
    print(f"{table['table']}{about}")
    if table["error"]:
        error = table["error"]
        print(f"  cannot be read: {error['found']}. {error['fix']}  [{error['code']}]")
        return
    if table["what"] != "endpoint":
        _of_files(table)
        return
    total = f" of {show.count(table['total'])}" if table["total"] is not None else ""
    print(f"  {show.plural(table['records'], 'record')} read{total}; {table['request']}")
    said = f"key {', '.join(table['key'])} (declared)" if table["key"] else "key: none declared"
    if not table["key"] and table["keys"]:
        said = f"key could be {' or '.join(table['keys'][:3])}"
    cursor = f"cursor {table['cursor']} (declared)" if table["cursor"] else "no cursor declared"
    if not table["cursor"] and table["cursors"]:
        cursor = f"cursor could be {' or '.join(table['cursors'][:3])}"
    parts = [said, cursor]
    parts += [f"one request for each of {table['parent']}"] if table["parent"] else []
    parts += [f"lists: {', '.join(table['lists'])}"] if table["lists"] else []
    print(f"  {'; '.join(parts)}")
    _columns(table)


def _of_files(table: wire.SurveyedTable) -> None:
    """A kind of files, named by the pattern that matches them."""
    if not table["columns"]:
        print(f"  {table['what']}")
    else:
        print(f"  {show.plural(table['records'], 'record')} read, by {table['request']}")
        print(f"  key could be {' or '.join(table['keys'][:3])}" if table["keys"] else "  no single column could be a key")
        _columns(table)
    for method in table["methods"]:
        print(f"  changes by {method['by']:<11} misses {method['misses']}")


def _columns(table: wire.SurveyedTable) -> None:
    rows = [
        (c["name"], c["type"], show.count(c["nulls"] or 0), show.count(c["distinct"] or 0), " · ".join(c["examples"]))
        for c in table["columns"]
    ]
    show.table(
        ["column", "type", "nulls", "distinct", "examples"],
        rows,
        empty="  no record, so no column",
        right=["nulls", "distinct"],
        indent="  ",
    )


def preview(options: argparse.Namespace) -> int:
    """`reed preview`: of a table or of files."""
    client = connect(options.url, options.token)
    try:
        if client.sources.get(options.source)["files"]:
            found = client.sources.preview_files(options.source, options.table, rows=options.rows)
        else:
            found = client.sources.preview(options.source, options.table, rows=options.rows, wire=options.wire)
    except ServiceProblem as problem:
        if options.wire and isinstance(problem.details, dict) and not options.json:
            for exchange in problem.details.get("exchanges", []):
                _exchange(exchange)
        raise
    if options.json:
        return show.as_json(found)
    for exchange in found["exchanges"]:
        _exchange(exchange)
    if found["note"]:
        print(found["note"])
    names = [f"{column['name']}" for column in found["columns"]]
    show.table(names, found["rows"], empty="No records.")
    for reason in found["rejects"]:
        print(f"would be rejected: {reason}")
    return 0


def _status(line: wire.RequestLine) -> str:
    """A statement has none."""
    if line["method"] in ("SQL", "FILE", "COPY"):
        return "failed" if line["problem"] else "done"
    return str(line["status"] or "none")


def _exchange(exchange: wire.Exchange) -> None:
    print(f"> {exchange['method']} {exchange['url']}")
    for name, value in exchange["headers"].items():
        print(f"> {name}: {value}")
    if exchange["body"]:
        print(f">\n{_body(exchange['body'], '> ')}")
    print(f"< {exchange['status']}")
    for name, value in exchange["answer_headers"].items():
        print(f"< {name}: {value}")
    print(f"<\n{_body(exchange['answer_body'], '< ')}")
    if exchange["cut"]:
        print("< … longer than shown")
    print()


def _body(text: str, before: str) -> str:
    """JSON a member a line, as long as it is short; anything else as it is."""
    with suppress(ValueError):
        text = _SHORT.sub(_on_one_line, json.dumps(json.loads(text), indent=1, ensure_ascii=False))
    lines = text.splitlines()
    more = [f"… {len(lines) - _BODY_LINES} more lines"] if len(lines) > _BODY_LINES else []
    width = max(20, show.width() - len(before))
    return "\n".join(before + (line if len(line) <= width else line[: width - 1] + "…") for line in lines[:_BODY_LINES] + more)


def _on_one_line(found: re.Match[str]) -> str:
    joined = " ".join(line.strip() for line in found[0].splitlines())
    return joined if len(joined) <= _SHORT_WIDTH else found[0]


def requests(options: argparse.Namespace) -> int:
    """`reed requests`, shown or written into a file."""
    client = connect(options.url, options.token)
    if options.to_file:
        count, after = 0, 0
        with open(options.to_file, "w", encoding="utf-8") as file:
            while some := client.runs.requests(options.run, after=after, limit=5000, failed=options.failed):
                after, count = some[-1]["number"], count + len(some)
                file.writelines(json.dumps(line, ensure_ascii=False) + "\n" for line in some)
        print(f"Wrote {show.plural(count, 'request')} to {options.to_file}.")
        return 0
    if options.show is not None:
        exchange = client.runs.exchange(options.run, options.show)
        if options.json:
            return show.as_json(exchange)
        _exchange(exchange)
        return 0
    found = client.runs.requests(options.run, limit=options.limit, failed=options.failed)
    if options.json:
        return show.as_json(found)
    rows = [
        (
            f"{line['number']}{'+' if line['kept'] else ''}",
            line["at"][11:23],
            line["table"],
            line["method"],
            show.ColouredCell(_status(line), "red" if line["problem"] else ""),
            show.size(line["bytes"]),
            f"{line['seconds'] * 1000:.0f} ms",
            f"{line['waited_seconds']:.2f} s" if line["waited_seconds"] >= 0.005 else "",
            line["attempt"] if line["attempt"] > 1 else "",
            " ".join(line["url"].split()) + (f"  ({line['problem']})" if line["problem"] else ""),
        )
        for line in found
    ]
    show.table(
        ["no", "at", "table", "method", "status", "bytes", "took", "waited", "attempt", "url"],
        rows,
        empty="No requests: the run made none, or they were deleted after some days.",
        right=["no", "bytes", "took", "waited"],
        widest=110,
    )
    if any(line["kept"] for line in found):
        print(f"+ the exchange was recorded: reed requests {options.run} --show NO")
    if len(found) == options.limit:
        print(f"… the first {options.limit}; --limit shows more, --to-file writes all")
    return 0
