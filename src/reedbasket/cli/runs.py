"""run, runs, watch, cancel, log."""

from __future__ import annotations

import argparse
import json
import sys
import time
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from ..client import Client, connect
from . import show
from .terminal import as_text, beneath

if TYPE_CHECKING:
    from .. import wire

_ACTIVE = ("queued", "running")
# The service answers a waiting call after this long at the latest; then it is asked again.
WAIT_SECONDS = 50.0
# In a pipe, progress is a line now and then instead of a bar.
_LINE_SECONDS = 2.0
# What a run does with rows, in the words of the ledger.
WRITTEN = ("inserted", "updated", "deleted")


def run(options: argparse.Namespace) -> int:
    """`reed run`: start a run, and follow it with `--wait`."""
    client = connect(options.url, options.token)
    sets = dict(_set(text) for text in options.set)
    asked = client.feeds.run(
        options.feed,
        wait_seconds=WAIT_SECONDS if options.wait else 0,
        allow_loss=options.allow_loss,
        sets=sets,
        bodies=options.bodies,
    )
    if options.no_wait:
        if options.json:
            return show.as_json(asked.facts)
        print(f"Run {asked.id} of {asked.feed} is {asked.outcome}; watch it with `reed watch {asked.id}`.")
        return 0
    if options.wait or options.json:
        return ended(asked.wait().facts, options.json)
    return _watch(client, asked.id, False)


def _set(text: str) -> tuple[str, Any]:
    """'limit=5' -> ('limit', 5): a number or true and false as such, everything else as text."""
    name, sign, value = text.partition("=")
    if not sign:
        raise SystemExit(f"reed: --set wants NAME=VALUE, found {text!r}  [command.incomplete]")
    try:
        found = json.loads(value)
    except ValueError:
        return name, value
    return name, found if isinstance(found, int | float | bool) else value


def replay(options: argparse.Namespace) -> int:
    """`reed replay`."""
    client = connect(options.url, options.token)
    before = client.feeds.rejects(options.feed, limit=1)
    if not before:
        print("No rejects to replay.")
        return 0
    asked = client.feeds.run(options.feed, wait_seconds=WAIT_SECONDS, replay=True)
    return ended(asked.wait().facts, options.json)


def watch(options: argparse.Namespace) -> int:
    """`reed watch`: the given run, or the latest."""
    client = connect(options.url, options.token)
    number = options.run
    if number is None:
        latest = client.runs.list(limit=1)
        if not latest:
            print("No runs yet.")
            return 0
        number = latest[0]["id"]
    return _watch(client, number, options.json)


def list_all(options: argparse.Namespace) -> int:
    """`reed runs`."""
    found = [run.facts for run in connect(options.url, options.token).runs.list(feed=options.feed, limit=options.limit)]
    if options.json:
        return show.as_json(found)
    rows = [
        (
            r["id"],
            r["feed"],
            show.outcome(r["outcome"]),
            f"backfill {r['backfill']}" if r["backfill"] else r["trigger"],
            show.local_time(r["requested_at"]),
            show.seconds_between(r["started_at"], r["ended_at"]),
            show.count(r["totals"]["read"]),
            *(show.count(r["totals"][name]) for name in WRITTEN),  # type: ignore[literal-required]
            show.count(r["totals"]["rejected"]),
            show.count(r["totals"]["requests"]),
            _remark(r),
        )
        for r in found
    ]
    show.table(
        ["run", "feed", "outcome", "trigger", "started", "took", "read", *WRITTEN, "rejected", "requests", "remark"],
        rows,
        empty="No runs yet; run a feed with `reed run FEED`.",
        right=["run", "took", "read", *WRITTEN, "rejected", "requests"],
    )
    return 0


def _remark(run: wire.Run) -> str:
    words = [run["error"]["code"]] if run["error"] else []
    if run["not_before"] and run["outcome"] == "queued":
        words.append(f"attempt {run['attempt']} {show.soon(run['not_before'])}")
    elif run["resumes"]:
        words.append(f"attempt {run['attempt']}" if run["attempt"] > 1 else f"continues run {run['resumes']}")
    if run["window"]:
        words.append(f"{run['window'][0].removesuffix('Z')} … {run['window'][1].removesuffix('Z')}")
    if run["sets"]:
        words.append(", ".join(f"{name}={value}" for name, value in run["sets"].items()))
    return "; ".join(words)


def cancel(options: argparse.Namespace) -> int:
    """`reed cancel`."""
    stopped = connect(options.url, options.token).runs.cancel(options.run)
    if options.json:
        return show.as_json(stopped.facts)
    print(f"Asked run {options.run} to stop; what it committed stays.")
    return 0


def log(options: argparse.Namespace) -> int:
    """`reed log`."""
    client = connect(options.url, options.token)
    lines = client.runs.all_log(options.run)
    if options.json:
        return show.as_json(list(lines))
    for line in lines:
        _log_line(line)
    return 0


def _log_line(line: wire.LogLine) -> None:
    mark = {"warning": "!", "error": "✗"}.get(line["level"], " ")
    print(f"{line['at'][11:23]} {mark} {line['table'] or '':<12} {line['message']}  [{line['code']}]")


def _watch(client: Client, number: int, as_json: bool) -> int:
    if as_json:
        for name, data in client.runs.events(number):
            print(json.dumps({name: data}, ensure_ascii=False), flush=True)
        return _code(client.runs.get(number).facts)
    if show.is_live():
        _live(client, number)
    else:
        _lines(client, number)
    return ended(client.runs.get(number).facts, False)


def _live(client: Client, number: int) -> None:
    """A table that redraws itself in place."""
    from rich.console import Console
    from rich.live import Live

    with Live(
        console=Console(file=beneath(sys.stdout), width=show.width(), highlight=False), refresh_per_second=8, transient=True
    ) as live:
        for name, data in client.runs.events(number):
            if name == "run":
                live.update(_live_table(data))


def _live_table(run: wire.Run) -> Any:
    from rich.progress_bar import ProgressBar
    from rich.table import Table

    took = show.seconds_between(run["started_at"], run["ended_at"])
    made = Table(box=None, pad_edge=False, header_style="bold", padding=(0, 2, 0, 0), title_justify="left", title_style="")
    made.title = f"run {run['id']}  {run['feed']}  {run['outcome']}  {took}"
    waiting = (f"{_called(table)} waits {table['waiting']}" for table in run["tables"] if table["waiting"])
    made.caption = as_text("\n".join(waiting))
    made.caption_justify, made.caption_style = "left", "yellow"
    for name in ("table", "phase", "", "read", *WRITTEN, "rows/s", "requests", "bytes", "waited", "left"):
        made.add_column(name, justify="left" if name in ("table", "phase", "") else "right", no_wrap=True)
    for table in run["tables"]:
        expected = table["expected"]
        bar: Any = ""
        if expected is not None:
            bar = ProgressBar(
                max(expected, 1), _done(table), 18, style="bright_black", complete_style="green", finished_style="green"
            )
        made.add_row(
            as_text(_called(table)),
            table["phase"],
            bar,
            show.count(table["read"]),
            *(show.count(table[name]) for name in WRITTEN),  # type: ignore[literal-required]
            show.count(_pace(table)) if _pace(table) else "",
            show.count(table["requests"]),
            show.size(table["source_bytes"]),
            f"{table['waited_seconds']:.1f} s" if table["waited_seconds"] >= 0.05 else "",
            _left(table),
        )
    return made


def _called(table: wire.TableProgress) -> str:
    return table["target"] + (f" in {table['warehouse']}" if table["warehouse"] else "")


def _done(table: wire.TableProgress) -> int:
    return table["read"] + table["repeated"] + table["held_back"]


def _pace(table: wire.TableProgress) -> int:
    return round(table["read"] / table["seconds"]) if table["seconds"] > 0 else 0


def _left(table: wire.TableProgress) -> str:
    done, expected = _done(table), table["expected"]
    if expected is None or not done or table["phase"] not in ("reading", "committing") or done >= expected:
        return ""
    return f"{table['seconds'] * (expected - done) / done:.0f} s"


def _lines(client: Client, number: int) -> None:
    """For pipes: a line when a table changes its phase, and one now and then."""
    phases: dict[str, str] = {}
    last = 0.0
    for name, data in client.runs.events(number):
        if name != "run":
            continue
        due = time.monotonic() - last >= _LINE_SECONDS
        for table in data["tables"]:
            stands = table["phase"] + table["waiting"]
            moved = phases.get(_called(table)) != stands
            if table["phase"] != "waiting" and (moved or (due and table["phase"] == "reading")):
                print(_words(table, data["tables"]), flush=True)
                last = time.monotonic()
            phases[_called(table)] = stands


def _words(table: wire.TableProgress, among: Sequence[wire.TableProgress]) -> str:
    """among: all of the run, whose names say how wide the first column is."""
    width = max(14, *(len(_called(one)) for one in among))
    expected = f" of {show.count(table['expected'])}" if table["expected"] and table["phase"] == "reading" else ""
    text = f"{_called(table):<{width}} {table['phase']:<11} {show.count(table['read'])}{expected} read"
    text += f", {written(table)}, {show.plural(table['requests'], 'request')}, {table['seconds']:.2f} s"
    if table["waiting"]:
        text += f"; waits {table['waiting']}"
    if table["repeated"]:
        text += f" ({show.count(table['repeated'])} in the overlap were already loaded)"
    return text


def ended(run: wire.Run, as_json: bool) -> int:
    """Print how a run ended, and return the exit code."""
    if as_json:
        show.as_json(run)
        return _code(run)
    took = show.seconds_between(run["started_at"], run["ended_at"])
    totals = run["totals"]
    words = f"{show.count(totals['read'])} read, {written(totals)}, {show.plural(totals['requests'], 'request')}"
    if totals["repeated"]:
        words += f"; {show.count(totals['repeated'])} in the overlap were already loaded"
    if totals["rejected"]:
        words += f"; {show.count(totals['rejected'])} rejected, see `reed rejects {run['feed']}`"
    print(f"Run {run['id']} of {run['feed']} {run['outcome']} in {took}: {words}.")
    for table in run["tables"]:
        if table["phase"] in ("failed", "skipped") or table["read"]:
            print("  " + _words(table, run["tables"]))
    if run["outcome"] == "interrupted":
        print("  Its worker was interrupted; a new run continues from the last committed cursor: `reed watch`.")
    if run["error"]:
        error = run["error"]
        print(f"  {error['doing']} {error['on']}: {error['found']}. {error['fix']}  [{error['code']}]", file=sys.stderr)
    return _code(run)


def written(counts: wire.TableProgress | wire.Totals) -> str:
    """What happened to the records, in words: the counts that are not 0."""
    named = {name: counts[name] for name in (*WRITTEN, "unchanged")}  # type: ignore[literal-required]
    return ", ".join(f"{show.count(count)} {name}" for name, count in named.items() if count) or "nothing written"


def _code(run: wire.Run) -> int:
    return 0 if run["outcome"] == "succeeded" else 1
