"""What one merge needs, and what a load did to the rows of a table."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass
class Counts:
    """What one load did to the rows of one table."""

    inserted: int = 0
    updated: int = 0
    deleted: int = 0
    unchanged: int = 0
    superseded: int = 0
    removed: int = 0


@dataclass(frozen=True)
class Stamp:
    """What the loader writes into each row.

    Attributes:
        load: the id of the load.
        at: the time of the load, as an SQL constant made by the loader, never from a value.
    """

    load: int
    at: str


@dataclass(frozen=True)
class Merge:
    """One set-based merge from a stage that holds no key twice.

    Attributes:
        stage: the stage, as SQL.
        table: the warehouse table, as SQL.
        names: the columns that are copied.
        key: those of them that identify a row.
        compared: those of them that make a row a changed one if they differ.
        staged: rows in the stage.
        stamp: what is written into each row; None for nothing.
        revive: the table marks deleted rows, and a row that comes again is no longer deleted.
    """

    stage: str
    table: str
    names: list[str]
    key: list[str]
    compared: list[str]
    staged: int
    stamp: Stamp | None
    revive: bool = False
