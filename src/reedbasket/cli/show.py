"""Output in a terminal: tables that fit it, numbers, times; and JSON for programs."""

from __future__ import annotations

import json
import os
import shutil
import sys
import textwrap
import unicodedata
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

# Width when the output is no terminal: a file or a pipe has no edge.
_PIPED_WIDTH = 10_000
# A single cell is cut here, with an ellipsis: a long text must not push everything else off the screen.
_WIDEST_CELL = 48
_GAP = "  "
_COLOURS = {"green": "32", "red": "31", "yellow": "33", "cyan": "36"}

OUTCOME_COLOURS = {
    "succeeded": "green",
    "failed": "red",
    "interrupted": "red",
    "cancelled": "yellow",
    "running": "cyan",
    "queued": "cyan",
}


@dataclass(frozen=True)
class ColouredCell:
    """A cell with a colour, if there is a terminal to show it."""

    text: str
    colour: str


def as_json(value: Any) -> int:
    """Print a value as JSON, and return the exit code 0."""
    print(json.dumps(value, indent=2, ensure_ascii=False))
    return 0


def coloured(text: str, colour: str) -> str:
    """A text in a colour, if a person is looking."""
    return f"\033[{_COLOURS[colour]}m{text}\033[0m" if colour and is_live() else text


def heading(text: str) -> str:
    """A text in bold, if a person is looking."""
    return f"\033[1m{text}\033[0m" if is_live() else text


def is_live() -> bool:
    """Whether a person is looking, at a terminal with colours."""
    return sys.stdout.isatty() and os.environ.get("TERM") != "dumb"


def width() -> int:
    """The width of the terminal, in characters."""
    return shutil.get_terminal_size().columns if sys.stdout.isatty() or "COLUMNS" in os.environ else _PIPED_WIDTH


def table(
    columns: Sequence[str],
    rows: Sequence[Sequence[Any]],
    *,
    empty: str,
    right: Sequence[str] = (),
    widest: int = _WIDEST_CELL,
    indent: str = "",
) -> None:
    """Print a table that fits the terminal, or a sentence if there are no rows.

    Columns are shown as a whole or not at all: those that do not fit are named below the table.

    Args:
        empty: the sentence.
        right: columns of figures.
        widest: the number of characters at which a cell is cut.
    """
    if not rows:
        if empty:
            print(empty)
        return
    cells = [[_cut(c.text if isinstance(c, ColouredCell) else cell(c), widest) for c in row] for row in rows]
    widths = [max(_cells(name), *(_cells(row[i]) for row in cells)) for i, name in enumerate(columns)]
    shown, used = 0, len(indent)
    for size in widths:
        used += size + (len(_GAP) if shown else 0)
        if used > width() and shown:
            break
        shown += 1
    live = is_live()
    bold = "\033[1m{}\033[0m" if live else "{}"
    print(indent + _GAP.join(bold.format(_pad(n, widths[i], n in right)) for i, n in enumerate(columns[:shown])).rstrip())
    for row, texts in zip(rows, cells):
        line = []
        for i, text in enumerate(texts[:shown]):
            padded = _pad(text, widths[i], columns[i] in right)
            item = row[i]
            if live and isinstance(item, ColouredCell) and item.colour:
                padded = f"\033[{_COLOURS[item.colour]}m{padded}\033[0m"
            line.append(padded)
        print(indent + _GAP.join(line).rstrip())
    if shown < len(columns):
        left = columns[shown:]
        print(
            f"… {plural(len(left), 'more column')} {'does' if len(left) == 1 else 'do'} not fit this width: {', '.join(left)}"
        )


def _cut(text: str, widest: int) -> str:
    return text if len(text) <= widest else text[: widest - 1] + "…"


def _cells(text: str) -> int:
    """Terminal cells: wide East Asian characters take two (Unicode UAX 11)."""
    return sum(2 if unicodedata.east_asian_width(c) in "WF" else 1 for c in text)


def _pad(text: str, size: int, right: bool) -> str:
    room = " " * (size - _cells(text))
    return room + text if right else text + room


def wrapped(items: Sequence[str], first: str) -> str:
    """Items on as few lines as possible, none broken; `first` begins the first line, and spaces of the same width the others."""
    # A space inside an item holds, so that a name and its type stay together.
    text = ", ".join(item.replace(" ", "\u00a0") for item in items)
    filled = textwrap.fill(
        text, min(width(), 120), initial_indent=first, subsequent_indent=" " * len(first), break_on_hyphens=False
    )
    return filled.replace("\u00a0", " ")


def cell(value: Any) -> str:
    """A value on one line. Null is shown as ·, to distinguish it from empty text."""
    if value is None:
        return "·"
    if isinstance(value, bool):
        return "true" if value else "false"
    text = str(value)
    return text.replace("\n", "⏎") if "\n" in text else text


def outcome(text: str) -> ColouredCell:
    """How a run ended, in its colour."""
    return ColouredCell(text, OUTCOME_COLOURS.get(text, ""))


def count(number: int) -> str:
    """A number with commas between thousands."""
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


def soon(text: str | None) -> str:
    """'2026-03-02T06:00:00Z' -> 'in 5 min'"""
    if text is None:
        return ""
    seconds = (datetime.fromisoformat(text) - datetime.now(UTC)).total_seconds()
    if seconds <= 0:
        return "now"
    for bound, unit, name in ((90, 1, "s"), (5400, 60, "min"), (129_600, 3600, "h")):
        if seconds < bound:
            return f"in {seconds / unit:.0f} {name}"
    return f"in {seconds / 86400:.0f} days"


def seconds_between(start: str | None, end: str | None) -> str:
    """How long it took, or has taken so far."""
    if start is None:
        return ""
    until = datetime.fromisoformat(end) if end else datetime.now(UTC)
    return f"{(until - datetime.fromisoformat(start)).total_seconds():.2f} s"


def local_time(text: str | None) -> str:
    """A time in this machine's zone, to the second."""
    return datetime.fromisoformat(text).astimezone().strftime("%Y-%m-%d %H:%M:%S") if text else ""
