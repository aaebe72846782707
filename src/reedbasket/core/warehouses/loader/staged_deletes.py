"""Tombstones among staged records: whether a tombstone or another record of its key is newer, and which rows go."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from ...records.layout import Family
from ...shaping.batch import TableBatch
from ..engine import Engine
from .stage import OWNER, Stage
from .write_modes import newest_first


@dataclass
class ResolvedDeletes:
    """The result.

    Attributes:
        gone: the temporary table, as SQL, of keys that go; None for none.
        deleted: how many of them are in the table.
        unchanged: how many are not, or are left as the feed says.
        superseded: tombstones that are older than another record of their key.
        dropped: {table: staged rows older than a tombstone}, which were taken out of the stage.
    """

    gone: str | None = None
    deleted: int = 0
    unchanged: int = 0
    superseded: int = 0
    dropped: dict[str, int] = field(default_factory=dict)


def resolve_deletes(
    engine: Engine, stage: Stage, family: Family, tombstones: Sequence[TableBatch], current: str, *, outdated: bool
) -> ResolvedDeletes:
    """Decide which rows go, in the load's transaction, after the stage holds each key once.

    Args:
        current: SQL for rows, as t, that are current.
        outdated: a tombstone that is older than the loaded row, by the cursor, does not count (records that were read again).
    """
    found = ResolvedDeletes()
    columns = [c for c in family.root.columns if c.name in family.key or c.name == family.newest_by]
    engine.create_temp("rb_dead", [*columns, OWNER], family.key)
    dead = engine.temp + "rb_dead"
    for batch in tombstones:
        engine.insert(dead, [*columns, OWNER], batch)
    staged, root, key = stage.prepare(family, family.root), engine.table(family.root.name), engine.listed(family.key)
    engine.create_temp_as(
        "rb_late",
        f"""select _rb_owner from (
                select _rb_owner, row_number() over (partition by {key} order by {newest_first(engine, family)}_rb_owner desc)
                    as place from {dead}
            ) as ranked where place > 1""",
    )
    found.superseded += _drop(engine, dead)
    engine.index_stage(staged, family.key)
    engine.create_temp_as(
        "rb_late",
        f"""select d._rb_owner from {dead} as d
            join {staged} as s on {engine.matching(family.key, "d", "s")} where {_later(engine, family, "s", "d", ties=True)}""",
    )
    found.superseded += _drop(engine, dead)
    if outdated and family.newest_by:
        engine.create_temp_as(
            "rb_late",
            f"""select d._rb_owner from {dead} as d
                join {root} as t on {engine.matching(family.key, "d", "t")}
                where {current} and {_later(engine, family, "t", "d", ties=False)}""",
        )
        found.superseded += _drop(engine, dead)
    engine.create_temp_as(
        "rb_late",
        f"""select s._rb_owner from {staged} as s
            join {dead} as d on {engine.matching(family.key, "d", "s")}""",
    )
    for layout in family.tables:
        if stage.rows.get(layout.name):
            found.dropped[layout.name] = engine.delete_matching(
                stage.prepare(family, layout), f"{engine.temp}rb_late", ["_rb_owner"]
            )
    engine.drop_temp("rb_late")
    left = engine.query(f"select count(*) from {dead}")[0][0]
    found.deleted = engine.query(
        f"""select count(*) from {dead} as d
            where exists (select 1 from {root} as t where {engine.matching(family.key, "t", "d")} and {current})"""
    )[0][0]
    found.unchanged = left - found.deleted
    if left:
        found.gone = dead
    else:
        engine.drop_temp(dead)
    return found


def joined(engine: Engine, family: Family, gone: str | None, dead: str | None) -> str | None:
    """One temporary table of all keys that go: those of tombstones, and those that a complete read no longer shows."""
    if dead is None:
        return gone
    key = engine.listed(family.key)
    if gone is None:
        engine.create_temp_as("rb_gone", f"select {key} from {dead}")
        gone = f"{engine.temp}rb_gone"
    else:
        # Not every engine reads a temporary table twice in a statement.
        engine.delete_matching(dead, gone, family.key)
        engine.run(f"insert into {gone} ({key}) select {key} from {dead}")
    engine.drop_temp(dead)
    return gone


def _drop(engine: Engine, dead: str) -> int:
    dropped = engine.delete_matching(dead, f"{engine.temp}rb_late", ["_rb_owner"])
    engine.drop_temp("rb_late")
    return dropped


def _later(engine: Engine, family: Family, one: str, other: str, *, ties: bool) -> str:
    """SQL: whether `one` is the newer of two records, by the cursor, then, if `ties`, by order of arrival (both have an owner's number)."""
    order = f"{one}._rb_owner > {other}._rb_owner" if ties else "false"
    column = next((c for c in family.root.columns if c.name == family.newest_by), None)
    if column is None:
        return order
    name = engine.quote(column.name)
    a, b = engine.sortable(f"{one}.{name}", column.kind), engine.sortable(f"{other}.{name}", column.kind)
    same = f"({a} = {b} or ({a} is null and {b} is null))"
    return f"({a} > {b} or ({a} is not null and {b} is null) or ({same} and {order}))"
