"""Warehouses, their tables and rows, as answers show them."""

from __future__ import annotations

from typing import Any

from typing_extensions import TypedDict


class CheckStep(TypedDict):
    """ok: null where the step was not reached. fix: ready to be pasted."""

    step: str
    ok: bool | None
    found: str
    fix: str


class ColumnProfile(TypedDict):
    """Statistics of one column."""

    name: str
    type: str
    nulls: int
    distinct: int
    min: str | None
    max: str | None
    examples: list[str]


class Profile(TypedDict):
    """Statistics of a table's columns."""

    table: str
    rows: int
    columns: list[ColumnProfile]


class Warehouse(TypedDict):
    """One that is defined."""

    name: str
    type: str
    description: str
    where: str


class Column(TypedDict):
    """One of a table's."""

    name: str
    type: str


class Table(TypedDict):
    """feed, source_table: which loaded it last, and out of what."""

    name: str
    columns: list[Column]
    rows: int
    feed: str | None
    last_load: int | None
    loaded_at: str | None
    source_table: str | None


class Rows(TypedDict):
    """Integers beyond 2^53 come as text, since a browser would round them; bytes as hexadecimal text."""

    columns: list[Column]
    rows: list[list[Any]]
    truncated: bool
    seconds: float
