"""What one merge takes, and what a load did to the rows of a table."""

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
        at: the moment of the load, as an SQL constant that is made by us, never taken from a value.
    """

    load: int
    at: str


@dataclass(frozen=True)
class Merge:
    """One set-based merge out of a stage that holds no key twice.

    Attributes:
        stage: the stage, as SQL.
        table: the warehouse table, as SQL.
        names: the columns that are copied.
        key: those of them by which rows are told apart.
        compared: those of them whose difference makes a row a changed one.
        staged: rows in the stage.
        stamp: what is written into each row; None for none.
        revive: the table marks deleted rows, and a row that comes again is deleted no more.
    """

    stage: str
    table: str
    names: list[str]
    key: list[str]
    compared: list[str]
    staged: int
    stamp: Stamp | None
    revive: bool = False
