"""`python -m bench CASE [--quick]` runs one case; with `--write` its figures go into bench/RESULTS.md. `python -m bench --all` does so
with every one, and says which are above their bound.

The last line of a case is JSON: case, ratio (ours / baseline, of medians), ours_s, baseline_s, rss_mb.
"""

from __future__ import annotations

import argparse
import json
import platform
import re
import subprocess
import sys
from dataclasses import dataclass
from datetime import date
from pathlib import Path
from typing import Any

from . import (
    api,
    api_children,
    api_latency,
    api_pace,
    code,
    compare,
    console_1000,
    databases,
    feeds_300,
    files,
    files_copy,
    files_listing,
    growth,
    history,
    large,
    large_store,
    merge,
    merge_growth,
    mysql,
    noop,
    pg_delta,
    pg_log,
    pg_parallel,
    replace,
    two_warehouses,
)


@dataclass(frozen=True)
class OfEngine:
    """One case of a module that knows several engines."""

    module: Any
    engine: str

    @property
    def WHAT(self) -> str:  # noqa: N802 - as in a case of its own module
        return str(self.module.WHAT)

    @property
    def BOUND(self) -> str:  # noqa: N802 - as in a case of its own module
        return str(self.module.bound(self.engine))

    def run(self, quick: bool) -> dict[str, Any]:
        found: dict[str, Any] = self.module.run(self.engine, quick)
        return found


RESULTS = Path(__file__).with_name("RESULTS.md")
ENGINES = {"sqlite": "sqlite", "duckdb": "duckdb", "pg": "postgres"}
CASES: dict[str, Any] = {
    **{f"api-{short}": OfEngine(api, engine) for short, engine in ENGINES.items()},
    "api-latency": api_latency,
    "api-pace": api_pace,
    "api-children": api_children,
    **{f"code-{kind}": OfEngine(code, kind) for kind in ("json", "arrow")},
    "two-warehouses": two_warehouses,
    "noop": noop,
    "merge-growth": merge_growth,
    "growth": growth,
    **{f"merge-{short}": OfEngine(merge, engine) for short, engine in ENGINES.items()},
    **{f"replace-{short}": OfEngine(replace, engine) for short, engine in ENGINES.items()},
    "mysql-replace": OfEngine(replace, "mysql"),
    "mysql-merge": OfEngine(merge, "mysql"),
    **{f"pg-{kind}": OfEngine(databases, kind) for kind in ("pg", "pg-shaped", "duckdb", "sqlite")},
    "mysql-pg": mysql,
    "pg-delta": pg_delta,
    "pg-log": pg_log,
    "pg-parallel": pg_parallel,
    **{kind: OfEngine(files, kind) for kind in ("csv-pg", "csv-duckdb", "csv-duckdb-gz", "csv-sqlite", "parquet-duckdb")},
    "files-copy": files_copy,
    "files-listing": files_listing,
    "compare": compare,
    "history": history,
    "pg-large": large,
    "feeds-300": feeds_300,
    "large-store": large_store,
    "console-1000": console_1000,
}
# By themselves alone.
_LARGE = ("pg-large", "feeds-300", "large-store", "console-1000")


def main() -> int:
    parser = argparse.ArgumentParser(prog="python -m bench", description=__doc__)
    parser.add_argument("case", nargs="?", choices=sorted(CASES))
    parser.add_argument("--quick", action="store_true", help="smaller, under 50 s")
    parser.add_argument("--all", action="store_true")
    parser.add_argument("--write", action="store_true", help="put the case's figures into RESULTS.md")
    options = parser.parse_args()
    if options.all:
        return _all(options.quick)
    if options.case is None:
        parser.error("name a case, or --all")
    result = CASES[options.case].run(options.quick)
    print(json.dumps({"case": options.case, **result}))
    if options.write:
        _write_anew(options.case, result)
    return 0


def _rows(name: str, found: dict[str, Any]) -> list[str]:
    module = CASES[name]
    first = (
        f"| `{name}` | {module.WHAT} | {module.BOUND} | **{found['ratio']}** | {found['ours_s']} | {found['baseline_s']} "
        f"| {found['rss_mb']} |"
    )
    return [first, *(f"| | {note} | | | | | |" for note in found.get("notes", []))]


def _write_anew(name: str, found: dict[str, Any]) -> None:
    lines = RESULTS.read_text().splitlines()
    # A case that is new goes to the end.
    start = next((n for n, line in enumerate(lines) if line.startswith(f"| `{name}` |")), len(lines))
    end = start + 1
    while end < len(lines) and lines[end].startswith("| | "):
        end += 1
    lines = [*lines[:start], *_rows(name, found), *lines[end:]]
    measured = f"Measured up to {date.today()}: Python {platform.python_version()}, {platform.machine()}."
    lines = [measured if line.startswith(("Written by", "Measured up to")) else line for line in lines]
    RESULTS.write_text("\n".join(lines) + "\n")


def _all(quick: bool) -> int:
    """Each case by itself, written as soon as it is measured; the last line says which are above their bound."""
    failed, above = [], []
    names = [case for case in CASES if case not in _LARGE]
    for name in names:
        command = [sys.executable, "-m", "bench", name, "--quick" if quick else "--write"]
        done = subprocess.run(command, stdout=subprocess.PIPE, text=True, check=False)
        if done.returncode:
            failed.append(name)
            print(done.stdout)
            continue
        found = json.loads(done.stdout.strip().splitlines()[-1])
        written = re.search(r"at most ([\d.]+)", CASES[name].BOUND)
        # A case over several engines says which bound its worst one has.
        bound = found.get("bound") or (float(written[1]) if written else None)
        if bound is not None and found["ratio"] > bound:
            above.append(f"{name} {found['ratio']}")
        print(json.dumps(found), flush=True)
    print(f"bench: {len(names)} cases; above their bound: {', '.join(above) or 'none'}; failed: {', '.join(failed) or 'none'}")
    return 1 if failed or above else 0


if __name__ == "__main__":
    sys.exit(main())
