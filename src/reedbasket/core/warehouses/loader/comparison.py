"""Comparing what is staged with what the tables hold, within the engine, so that no value is judged by how a driver shows it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from ...records.layout import Family, TableLayout
from ...records.structure import ColumnShape
from ..engine import PARENT, POSITION, Engine
from ..loading import Differences
from .stage import Stage


def differences(
    engine: Engine, stage: Stage, family: Family, *, deep: bool, samples: int, rows_linked: bool = False
) -> list[Differences]:
    """The differences of each table of the family. Runs in a transaction that is rolled back afterwards; the stage holds one row for each
    key.

    Args:
        rows_linked: child rows refer to their parent's row, by a number it got when it was loaded.
    """
    found = []
    for layout in family.tables:
        # Rows without a key got their names when they were loaded: their children can only be counted.
        key = family.key if layout.parent is None else [PARENT, POSITION] if family.key and not rows_linked else []
        found.append(_of_table(engine, stage.prepare(family, layout), layout, key, deep=deep, samples=samples))
    return found


def _of_table(engine: Engine, staged: str, layout: TableLayout, key: Sequence[str], *, deep: bool, samples: int) -> Differences:
    table, there = engine.table(layout.name), engine.columns(layout.name) or {}
    lacking = [c for c in layout.names if c not in there]
    current = " and ".join(
        ["true", *(f"t.{column} is null" for column in ("_rb_valid_until", "_rb_deleted_at") if column in there)]
    )
    rows = engine.query(f"select count(*) from {table} as t where {current}")[0][0] if there else 0
    source = engine.query(f"select count(*) from {staged}")[0][0]
    if not key or not there:
        only, none = (source, 0) if key else (None, None)
        return Differences(layout.name, source, rows, only, none, 0 if deep else None, lacking, [])
    engine.index_stage(staged, key)
    held = _as_staged(engine, layout, there)
    match = " and ".join(f"{held[name][0]} = s.{engine.quote(name)}" for name in key)
    missing = f"from {staged} as s where not exists (select 1 from {table} as t where {match} and {current})"
    lookup = " and ".join(f"s.{engine.quote(name)} = {engine.bare(held[name][0])}" for name in key)
    extra = f"from {table} as t where {current} and not exists (select 1 from {staged} as s where {lookup})"
    compared = [c for c in layout.names if c in there and c not in key]
    differing = f"from {staged} as s join {table} as t on {match} where {current} and {_differs(engine, held, compared)}"
    counts = [engine.query(f"select count(*) {what}")[0][0] for what in (missing, extra)]
    changed = engine.query(f"select count(*) {differing}")[0][0] if deep else None
    found: list[tuple[str, tuple[Any, ...], dict[str, tuple[Any, Any]]]] = []
    for what, alias, where, count in (
        ("only at the source", "s", missing, counts[0]),
        ("only in the warehouse", "t", extra, counts[1]),
    ):
        if not count:
            continue
        listed = ", ".join(engine.text_of(f"{alias}.{engine.quote(k)}") for k in key)
        found += [(what, row, {}) for row in engine.query(f"select {listed} {where} limit {samples}")]
    if deep and changed:
        columns = [*key, *compared]
        sides = [engine.text_of(f"s.{engine.quote(c)}") for c in columns] + [engine.text_of(held[c][0]) for c in columns]
        for row in engine.query(f"select {', '.join(sides)} {differing} limit {samples}"):
            ours, theirs = row[: len(columns)], row[len(columns) :]
            pairs = {c: (a, b) for c, a, b in zip(columns[len(key) :], ours[len(key) :], theirs[len(key) :]) if a != b}
            found.append(("differs", ours[: len(key)], pairs))
    return Differences(layout.name, source, rows, counts[0], counts[1], changed, lacking, found)


def _as_staged(engine: Engine, layout: TableLayout, there: dict[str, str]) -> dict[str, tuple[str, bool]]:
    """{column: (its value in the table in the stage's type, whether that took a conversion)}: if the source's types have widened since the
    last load, the table is compared as if it had widened too.
    """
    made = {name: (f"t.{engine.quote(name)}", False) for name in there}
    linking = [ColumnShape(PARENT, layout.parent_kind)] if layout.parent is not None else []
    for column in [*linking, *layout.columns]:
        declared = there.get(column.name)
        held = engine.kind_of(declared) if declared is not None and declared != engine.declared(column) else None
        if held is not None:
            made[column.name] = (engine.widened(made[column.name][0], held, column), True)
    return made


def _differs(engine: Engine, held: dict[str, tuple[str, bool]], compared: Sequence[str]) -> str:
    alike = [c for c in compared if not held[c][1]]
    parts = [engine.differs(alike, "t", "s")] if alike else []
    parts += [engine.is_other(held[c][0], f"s.{engine.quote(c)}") for c in compared if held[c][1]]
    return f"({' or '.join(parts)})" if parts else "false"
