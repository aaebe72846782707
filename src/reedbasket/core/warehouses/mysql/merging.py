"""Merging a stage into a table.

An update by a join would keep the new values in a table on disk first; INSERT … ON DUPLICATE KEY UPDATE does not. It finds an existing row
by its number, which is looked up before: by a key of the table's index it would first insert a row, then take it back.
"""

from __future__ import annotations

from ..engine import Engine
from ..merge import Merge

_STAMPS = ["_rb_ledger_line", "_rb_loaded_at"]
# Staged rows at a time: the pages of the table that were read to compare them are in memory still when they are written.
_ROWS = 5_000


def merge_stage(engine: Engine, merge: Merge) -> tuple[int, int]:
    """See `Engine.merge`."""
    first, last = engine.query(f"select min({engine.row_id}), max({engine.row_id}) from {merge.stage}")[0]
    inserted = updated = 0
    for start in range(first, last + 1, _ROWS) if first is not None else ():
        new, changed = _merge_some(engine, merge, f"s.{engine.row_id} between {start} and {start + _ROWS - 1}")
        inserted, updated = inserted + new, updated + changed
    return inserted, updated


def _merge_some(engine: Engine, merge: Merge, some: str) -> tuple[int, int]:
    """The staged rows that a condition on `s` is true of: a new row gets a new number."""
    stamp, number = merge.stamp, engine.row_id
    assert stamp is not None
    changed = engine.differs(merge.compared, "t", "s") if merge.compared else "false"
    changed += " or t._rb_deleted_at is not null" if merge.revive else ""
    engine.create_temp_as(
        "rb_written",
        f"""select s.{number} as staged_row, t.{number} as at_row
            from {merge.stage} as s left join {merge.table} as t on {engine.matching(merge.key, "t", "s")}
            where {some} and (t.{number} is null or {changed})""",
    )
    written, held = engine.query("select count(*), count(at_row) from rb_written")[0]
    rest = [engine.quote(name) for name in merge.names if name not in merge.key]
    sets = [f"{name} = values({name})" for name in [*rest, *_STAMPS]]
    sets += ["_rb_deleted_at = null"] if merge.revive else []
    if written:
        engine.run(
            f"""insert into {merge.table} ({number}, {engine.listed([*merge.names, *_STAMPS])})
                select w.at_row, {engine.listed(merge.names, "s")}, {stamp.load}, {stamp.at}
                from rb_written as w straight_join {merge.stage} as s on s.{number} = w.staged_row
                on duplicate key update {", ".join(sets)}"""
        )
    engine.drop_temp("rb_written")
    return written - held, held
