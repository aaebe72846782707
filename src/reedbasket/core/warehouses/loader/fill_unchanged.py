"""Filling values that staged rows do not have because they did not change, from what was staged or loaded before."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from ...errors import WarehouseError
from ...records.layout import Family
from ...records.structure import ColumnShape
from ...shaping.batch import TableBatch
from ...shaping.unchanged_values import SINCE as SINCE_OWNER
from ...shaping.unchanged_values import UNTIL as UNTIL_OWNER
from ..engine import Engine
from .stage import OWNER, Stage


def fill_unchanged(
    engine: Engine, stage: Stage, family: Family, sought: Mapping[str, Sequence[TableBatch]], current: str
) -> None:
    """Fill the values, in the load's transaction, while the stage still holds every change of a key.

    Args:
        sought: {column: rows with their key, SINCE and UNTIL}, as shape.kept makes them.
        current: SQL for rows, as t, that are current.

    Raises:
        WarehouseError: a value cannot be found anywhere.
    """
    staged, root = stage.prepare(family, family.root), engine.table(family.root.name)
    keys = [c for c in family.root.columns if c.name in family.key]
    bounds = [ColumnShape(SINCE_OWNER, "int64"), ColumnShape(UNTIL_OWNER, "int64")]
    temp = engine.temp
    for name, batches in sought.items():
        column = engine.quote(name)
        engine.create_temp("rb_kept", [*keys, *bounds, OWNER], family.key)
        for batch in batches:
            engine.insert(f"{temp}rb_kept", [*keys, *bounds, OWNER], batch)
        # Not every engine reads a temporary table twice in a statement.
        engine.create_temp_as("rb_kept_rows", f"select _rb_owner from {temp}rb_kept")
        engine.create_temp_as(
            "rb_last",
            f"""select for_owner, made from (
                    select h._rb_owner as for_owner, p.{column} as made,
                        row_number() over (partition by h._rb_owner order by p._rb_owner desc) as place
                    from {temp}rb_kept as h join {staged} as p on {engine.matching(family.key, "p", "h")}
                    where p._rb_owner > h.{SINCE_OWNER} and p._rb_owner < h.{UNTIL_OWNER}
                    and p._rb_owner not in (select _rb_owner from {temp}rb_kept_rows)
                ) as ranked where place = 1""",
        )
        engine.create_temp_as(
            "rb_held",
            f"""select h._rb_owner as for_owner, t.{column} as made
                from {temp}rb_kept as h join {root} as t on {engine.matching(family.key, "t", "h")}
                where h.{SINCE_OWNER} = -1 and {current} and h._rb_owner not in (select for_owner from {temp}rb_last)""",
        )
        engine.run(f"insert into {temp}rb_last (for_owner, made) select for_owner, made from {temp}rb_held")
        engine.update_joined(staged, f"{temp}rb_last", "t._rb_owner = g.for_owner", f"{column} = g.made")
        unknown = engine.query(
            f"select count(distinct _rb_owner) from {temp}rb_kept where _rb_owner not in (select for_owner from {temp}rb_last)"
        )[0][0]
        if unknown:
            raise WarehouseError(
                "filling in what the log leaves out of",
                f"{family.root.name}.{name}",
                found=f"{unknown} changed rows came without it, because it did not change, but the warehouse does not have those rows",
                fix="let the log contain whole rows (alter table … replica identity full), then run once with changes by full, "
                "and by cdc again",
                code="warehouse.value_not_in_log",
            )
        for left in ("rb_last", "rb_held", "rb_kept_rows"):
            engine.drop_temp(left)
        engine.drop_temp("rb_kept")
