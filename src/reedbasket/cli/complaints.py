"""Errors on the terminal: what was found, with its code, and every mistake in a definition."""

from __future__ import annotations

import sys


def complain(error: Exception) -> None:
    """Print an error of the core: what was found, its code, and every mistake."""
    complain_of(str(error), getattr(error, "code", ""), getattr(error, "details", None))


def complain_of(text: str, code: str, details: object = None) -> None:
    """The same from its parts; details: mistakes in definitions, if there are any."""
    print(f"reed: {text}  [{code}]", file=sys.stderr)
    for item in details if isinstance(details, list) else []:
        if isinstance(item, dict) and "file" in item:
            place = f"{item['file']}:{item['line']}:{item['column']}"
            print(f"{place}  {item['path']}\n  {item['message']}  [{item['code']}]", file=sys.stderr)
