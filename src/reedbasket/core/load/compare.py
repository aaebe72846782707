"""What is staged against what a table holds, told by the engine itself: no value is judged by how a driver shows it."""

from __future__ import annotations

from typing import Any

from ..shape.layout import Family
from .engine import Engine
from .stage import Stage
from .warehouse import Differences


def differences(engine: Engine, stage: Stage, family: Family, *, deep: bool, samples: int) -> Differences:
    """Within a transaction that is rolled back afterwards. The stage holds one row a key."""
    root = family.root
    staged, table = stage.prepare(family, root), engine.table(root.name)
    there = engine.columns(root.name) or {}
    held = [c for c in root.names if c in there]
    current = " and ".join(["true", *(f"t.{column} is null" for column in ("_rb_until", "_rb_deleted_at") if column in there)])
    rows = engine.ask(f"select count(*) from {table} as t where {current}")[0][0] if there else 0
    source = engine.ask(f"select count(*) from {staged}")[0][0]
    if not family.key or not there:
        return Differences(source, rows, source if family.key else None, 0 if family.key else None, 0 if deep else None, [])
    engine.index_stage(staged, family.key)
    match, keys = engine.matching(family.key, "t", "s"), len(family.key)
    missing = f"from {staged} as s where not exists (select 1 from {table} as t where {match} and {current})"
    extra = f"from {table} as t where {current} and not exists (select 1 from {staged} as s where {match})"
    compared = [c for c in held if c not in family.key]
    differing = f"from {staged} as s join {table} as t on {match} where {current} and " + (
        engine.differs(compared, "t", "s") if compared else "false"
    )
    counts = [engine.ask(f"select count(*) {what}")[0][0] for what in (missing, extra)]
    changed = engine.ask(f"select count(*) {differing}")[0][0] if deep else None
    found: list[tuple[str, tuple[Any, ...], dict[str, tuple[Any, Any]]]] = []
    for what, alias, where in (("only at the source", "s", missing), ("only in the warehouse", "t", extra)):
        listed = ", ".join(engine.text_of(f"{alias}.{engine.quote(k)}") for k in family.key)
        found += [(what, row, {}) for row in engine.ask(f"select {listed} {where} limit {samples}")]
    if deep and changed:
        columns = [*family.key, *compared]
        sides = [engine.text_of(f"{alias}.{engine.quote(c)}") for alias in ("s", "t") for c in columns]
        for row in engine.ask(f"select {', '.join(sides)} {differing} limit {samples}"):
            ours, theirs = row[: len(columns)], row[len(columns) :]
            pairs = {c: (a, b) for c, a, b in zip(columns[keys:], ours[keys:], theirs[keys:]) if a != b}
            found.append(("differs", ours[:keys], pairs))
    return Differences(source, rows, counts[0], counts[1], changed, found)
