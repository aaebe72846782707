"""A table of a database as the source: SQLite, PostgreSQL, MariaDB."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

from hypothesis import strategies as st

from tests.truth.databases import DATABASES, Database
from tests.truth.scene import Scene, Struck
from tests.truth.sql_faults import FAULTS, SqlFault
from tests.truth.world import Row, World

WAYS = {
    "sqlite": ("cursor", "full", "compare"),
    "postgres": ("cursor", "full", "compare", "row_version", "cdc", "cdc"),
    "mariadb": ("cursor", "full", "compare", "cdc", "cdc"),
}
WRITES = {
    "cursor": ("upsert", "append", "versions"),
    "row_version": ("upsert", "versions"),
    "compare": ("upsert", "mirror", "versions"),
    "cdc": ("upsert", "versions"),
    "full": ("upsert", "append", "replace", "mirror", "versions"),
}


@dataclass(frozen=True)
class Declaration:
    on: str
    by: str
    write: str
    deletes: str
    writing: str
    warehouses: tuple[str, ...]
    pattern: bool = False
    ranges: bool = False


@st.composite
def declarations(draw: Any, on: str) -> Declaration:
    by = draw(st.sampled_from(WAYS[on]))
    write = draw(st.sampled_from(WRITES[by]))
    return Declaration(
        on=on,
        by=by,
        write=write,
        deletes=draw(st.sampled_from(["hard", "hard", "soft"])),
        writing=draw(st.sampled_from(["z_micro", "space"])) if on == "sqlite" else "z_micro",
        warehouses=draw(
            st.sampled_from([("sqlite",), ("duckdb",), ("postgres",), ("mysql",), ("sqlite", "duckdb"), ("duckdb", "mysql")])
        ),
        pattern=draw(st.booleans()),
        ranges=write != "append" and draw(st.booleans()),
    )


def faults_of(declared: Declaration) -> list[str]:
    ways = {declared.by, declared.write}
    return [name for name, fault in FAULTS.items() if declared.on in fault.on and not ways & set(fault.but)]


def compatible(faults: list[tuple[str, int]]) -> list[tuple[str, int]]:
    return faults


class SqlScene(Scene):
    declared: Declaration

    def __init__(self, declared: Declaration, seed: int, database: Database) -> None:
        super().__init__(declared, World(declared.writing, "columns", seed))
        self.database = database
        self._shown: dict[int, Row] = {}
        self._struck: list[tuple[SqlFault, int]] = []
        self._spoiled: set[int] = set()
        self._unsure: set[int] = set()

    def text(self) -> str:
        d = self.declared
        deletes = f", deletes: {d.deletes}" if d.write not in ("append", "replace") else ""
        column = ", column: updated_at, overlap: 10m" if d.by == "cursor" else ""
        ranges = ", parallel_read: {column: id, parts: 3, concurrency: 2}" if d.ranges else ""
        named = '"thing*"' if d.pattern else "things"
        table = f"{{table: {named}, changes: {{by: {d.by}{column}}}, write: {d.write}{deletes}{ranges}}}"
        return f"""source: truth
{self.database.text()}
---
feed: truth
from: truth
into: [{", ".join(f"in_{name}" for name in d.warehouses)}]
tables: [{table}]
"""

    def moved(self) -> None:
        """One transaction, with what differs."""
        rows, shown = self.world.rows, self._shown
        gone = [n for n in shown if n not in rows]
        changed = {n: r for n, r in rows.items() if n in shown and shown[n] is not r}
        new = {n: r for n, r in rows.items() if n not in shown}
        self.database.change(gone, changed, new)
        self._shown = dict(rows)

    def quiet(self) -> None:
        for fault, place in reversed(self._struck):
            fault.undo(self.database, place)
        self._struck = []
        spoiled = {n: self.world.rows[n] for n in self._spoiled if n in self.world.rows}
        if spoiled:
            self.database.change([], spoiled, {})
        self._spoiled, self._unsure = set(), set()
        super().quiet()

    def strike(self, faults: tuple[tuple[str, int], ...], now: datetime) -> None:
        # What takes the table's shape away comes last.
        for name, place in sorted(faults, key=lambda one: FAULTS[one[0]].alone):
            fault = FAULTS[name]
            if (fault.later and not self.loaded) or (fault.alone and any(other.alone for other, _ in self._struck)):
                continue
            # What strikes in the middle has not struck where a run ends before.
            if not fault.meanwhile and fault.do(self.database, place) is False:
                continue
            self._struck.append((fault, place))
            if fault.spoils:
                numbers = sorted(self.world.rows)
                spoiled = {numbers[place % len(numbers)]} if numbers else set()
                self._spoiled |= spoiled
                if fault.hides and self.declared.by == "cursor":
                    self._unsure |= spoiled
                else:
                    self._altered |= spoiled

        # What stands beyond the run's end is held back, whatever else is wrong with it.
        self._altered -= self._unsure

    def meanwhile(self) -> None:
        for fault, place in self._struck:
            if fault.meanwhile == "world":
                mutated = {0: self.world.change, 1: self.world.delete}.get(place, lambda _: self.world.insert())
                mutated(place)
                self.moved()
            elif fault.meanwhile:
                fault.do(self.database, place)

    def struck(self) -> list[Struck]:
        return [Struck(fault.name, fault.harmless, fault.told) for fault, _ in self._struck]

    def perhaps_there(self, before: set[int]) -> set[int]:
        return self._unsure

    def close(self) -> None:
        self.quiet()
        self.database.close()


def scene(declared: Declaration, seed: int, servers: Any, folder: Path) -> SqlScene:
    return SqlScene(declared, seed, DATABASES[declared.on](servers, folder, declared.writing))
