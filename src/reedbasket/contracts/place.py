"""A warehouse to test, and a way to load into it as a run would."""

from __future__ import annotations

from contextlib import ExitStack, closing
from datetime import UTC, datetime
from typing import Any, Protocol

from ..core.shaping import Shaper, ShapeRules, TableShape
from ..core.shaping.columns import ColumnWork
from ..core.warehouses import LedgerLine, LoadTarget, Position, SavedCursor, Warehouse


class Place(Protocol):
    """One empty warehouse, and another connection to look at it without the code under test.

    Attributes:
        readers_wait: nobody reads while a commit writes.
        ddl_commits: statements that change tables commit implicitly.
        most_columns: of a table, the loader's own included.
    """

    readers_wait: bool
    ddl_commits: bool
    most_columns: int

    def open(self) -> Warehouse:
        """The warehouse, as a run opens it."""

    def ask(self, sql: str) -> list[tuple[Any, ...]]:
        """The rows of a query, on another connection."""

    def do(self, sql: str) -> None:
        """Execute a statement on another connection."""


def columns_of(place: Place, table: str) -> dict[str, str]:
    """{column: declared type}; empty if there is no such table."""
    with closing(place.open()) as warehouse:
        return warehouse.existing(table) or {}


class Loader:
    """Loads lists of records into one table, as a run would, each list as a separate load."""

    def __init__(self, place: Place, write: Any = "upsert", key: list[str] | None = None, **more: Any) -> None:
        self.place = place
        self.write = write
        self.key = ["id"] if key is None else key
        self.table: str = more.pop("table", "things")
        self.deletes: Any = more.pop("deletes", "hard")
        self.complete: bool = more.pop("complete", write == "mirror")
        self.rules: ShapeRules | None = more.pop("rules", None)
        self.gone: Any = more.pop("gone", None)  # whether a record says that it is
        self.notes: list[str] = []

    @property
    def link(self) -> Any:
        """What child rows refer to."""
        return "row" if self.write == "append" or not self.key else "key"

    def load(self, records: list[dict[str, Any]], *, feed: str = "test", batch: int = 3, hold: Any = None) -> list[LedgerLine]:
        """Load records.

        Args:
            records: all of the load.
            feed: whose load it is.
            batch: how many records are staged at once.
            hold: called between staging and committing.
        """
        with ExitStack() as stack:
            warehouse = self.place.open()
            stack.callback(warehouse.close)
            state = warehouse.state(feed, "things")
            structure = state.structure if state else TableShape(self.table)
            shaper = Shaper(structure, self.key, self.link, self.rules, newest_by="at", expected=state is not None)
            target = LoadTarget(
                1,
                feed,
                "src",
                "things",
                self.table,
                self.write,
                self.key,
                self.link,
                self.deletes,
                self.complete,
                tombstones=self.gone is not None,
            )
            load = warehouse.begin(target, state)
            owner = rejected = 0
            stack.callback(load.close)
            for start in range(0, len(records), batch):
                shaped = shaper.shape(records[start : start + batch], owner)
                owner += shaped.records
                rejected += len(shaped.rejects)
                worked = ColumnWork(ShapeRules(), bytes).work(shaped, self.gone)
                load.stage(shaped.family, worked.batches)
                if worked.tombstones is not None:
                    load.tombstones(worked.tombstones)
            if hold:
                hold()
            now = datetime.now(UTC)
            position = Position(SavedCursor("text", "x"), None, rejected, 0, 0, now)
            lines = load.commit(shaper.family, shaper.structure.to_data(), position, now)
            self.notes = load.notes
            return lines

    def ask(self, sql: str) -> list[tuple[Any, ...]]:
        """The rows of a query, without the code under test."""
        return self.place.ask(sql)
