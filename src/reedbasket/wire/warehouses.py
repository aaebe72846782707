"""Warehouses in API answers: their tables and rows."""

from __future__ import annotations

from typing import Any

from typing_extensions import TypedDict


class CheckStep(TypedDict):
    """A step of a check. `ok`: null if it was not reached. `fix`: ready to be pasted."""

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
    """A warehouse."""

    name: str
    type: str
    description: str
    where: str


class Column(TypedDict):
    """A column of a table."""

    name: str
    type: str


class Table(TypedDict):
    """A table of a warehouse. `feed`, `source_table`: which loaded it last, and from what."""

    name: str
    columns: list[Column]
    rows: int
    feed: str | None
    last_load: int | None
    loaded_at: str | None
    source_table: str | None


class Rows(TypedDict):
    """Rows of a table or a query. Integers beyond 2^53 are text, since a browser would round them; bytes are hexadecimal text."""

    columns: list[Column]
    rows: list[list[Any]]
    truncated: bool
    seconds: float
