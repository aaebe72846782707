"""How things look in a terminal: tables that fit it, numbers, times; and JSON for programs."""

from __future__ import annotations

import json
import os
import shutil
import sys
from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Any

# Console width when the output is no terminal: wide, since a file or a pipe has no edge.
_PIPED_WIDTH = 240

OUTCOME_STYLES = {
    "succeeded": "green",
    "failed": "red",
    "interrupted": "red",
    "cancelled": "yellow",
    "running": "cyan",
    "queued": "cyan",
}


def as_json(value: Any) -> int:
    print(json.dumps(value, indent=2, ensure_ascii=False))
    return 0


def is_live() -> bool:
    return sys.stdout.isatty() and os.environ.get("TERM") != "dumb"


def console() -> Any:
    """A rich console; imported here, since commands that print no table need not wait for it."""
    from rich.console import Console

    width = shutil.get_terminal_size().columns if sys.stdout.isatty() else _PIPED_WIDTH
    return Console(width=width, highlight=False, soft_wrap=False)


def table(columns: Sequence[str], rows: Sequence[Sequence[Any]], *, empty: str, right: Sequence[str] = ()) -> None:
    """A table, or a sentence where there is nothing. right: the columns of numbers."""
    if not rows:
        print(empty)
        return
    from rich.table import Table
    from rich.text import Text

    made = Table(box=None, pad_edge=False, header_style="bold", padding=(0, 2, 0, 0))
    for name in columns:
        made.add_column(name, justify="right" if name in right else "left", no_wrap=True, overflow="ellipsis")
    for row in rows:
        made.add_row(*(c if isinstance(c, Text) else Text(cell(c)) for c in row))
    console().print(made)


def cell(value: Any) -> str:
    """A value in one line: null is shown as ·, so that it differs from empty text."""
    if value is None:
        return "·"
    if isinstance(value, bool):
        return "true" if value else "false"
    text = str(value)
    return text.replace("\n", "⏎") if "\n" in text else text


def styled(text: str, style: str) -> Any:
    from rich.text import Text

    return Text(text, style=style)


def outcome(text: str) -> Any:
    return styled(text, OUTCOME_STYLES.get(text, ""))


def count(number: int) -> str:
    return f"{number:,}"


def plural(number: int, word: str) -> str:
    """'1 request', '4 requests'"""
    return f"{number:,} {word}" + ("" if number == 1 else "s")


def size(number: int) -> str:
    """1536 -> '1.5 KiB'"""
    value = float(number)
    for unit in ("B", "KiB", "MiB", "GiB"):
        if value < 1024 or unit == "GiB":
            return f"{value:.0f} {unit}" if unit == "B" else f"{value:.1f} {unit}"
        value /= 1024
    return ""


def ago(text: str | None) -> str:
    """'2026-03-02T06:00:00Z' -> '5 min ago'"""
    if text is None:
        return "never"
    seconds = (datetime.now(UTC) - datetime.fromisoformat(text)).total_seconds()
    for bound, unit, name in ((90, 1, "s"), (5400, 60, "min"), (129_600, 3600, "h")):
        if seconds < bound:
            return f"{max(0, seconds) / unit:.0f} {name} ago"
    return f"{seconds / 86400:.0f} days ago"


def seconds_between(start: str | None, end: str | None) -> str:
    if start is None:
        return ""
    until = datetime.fromisoformat(end) if end else datetime.now(UTC)
    return f"{(until - datetime.fromisoformat(start)).total_seconds():.2f} s"


def local_time(text: str | None) -> str:
    """In this machine's zone, to the second."""
    return datetime.fromisoformat(text).astimezone().strftime("%Y-%m-%d %H:%M:%S") if text else ""
