"""Figures for people, in a log."""

from __future__ import annotations


def size(count: int) -> str:
    """Bytes, in the unit that leaves one to three digits: 655 kB."""
    value, unit = float(count), "bytes"
    for larger in ("kB", "MB", "GB", "TB"):
        if value < 1000:
            break
        value, unit = value / 1000, larger
    return f"{value:,.0f} {unit}" if unit == "bytes" or value >= 100 else f"{value:.1f} {unit}"


def many(count: int, one: str) -> str:
    """`1 change`, `2 changes`."""
    return f"{count:,} {one}" if count == 1 else f"{count:,} {one}s"
