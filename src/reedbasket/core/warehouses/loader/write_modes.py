"""The write modes as set-based SQL, from the stage into the tables, in the load's transaction.

Only the merge itself differs between engines (engine.merge); everything here is the same for all of them.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from ...records.layout import Family, TableLayout
from ...records.structure import ColumnShape
from ...shaping.batch import TableBatch
from ...spec.model import Deletes
from ..engine import FILE, PARENT, POSITION, ROW, Engine
from ..loading import LoadTarget
from ..merge import Counts, Merge, Stamp
from .stage import OWNER, Stage, system_columns

_PLACE = [PARENT, POSITION]


def drop_superseded(engine: Engine, stage: Stage, family: Family) -> dict[str, int]:
    """Leave one row for each key in the stage: the newest by cursor, then by order. Returns {table: rows dropped}.

    Engines differ in what they do with a key that is repeated within one statement, so none is left.
    """
    name, key = stage.prepare(family, family.root), engine.listed(family.key)
    engine.index_stage(name, family.key)
    if not engine.query(f"select 1 from {name} group by {key} having count(*) > 1 limit 1"):
        return {}
    engine.create_temp_as(
        "rb_superseded",
        f"""select _rb_owner from (
                select _rb_owner, row_number() over (partition by {key} order by {newest_first(engine, family)}_rb_owner desc)
                    as place from {name}
            ) as ranked where place > 1""",
    )
    dropped = {}
    for layout in family.tables:
        if stage.rows.get(layout.name):
            dropped[layout.name] = engine.delete_matching(
                stage.prepare(family, layout), f"{engine.temp}rb_superseded", ["_rb_owner"]
            )
    engine.drop_temp("rb_superseded")
    return dropped


def newest_first(engine: Engine, family: Family) -> str:
    """`"updated_at" desc nulls last, `, or '' if the order of arrival alone decides."""
    column = next((c for c in family.root.columns if c.name == family.newest_by), None)
    if column is None:
        return ""
    return f"{engine.highest_first(engine.quote(column.name), column.kind)}, "


def append(
    engine: Engine, stage: Stage, family: Family, layout: TableLayout, stamp: Stamp, root_load: int, *, rows_linked: bool
) -> Counts:
    """Insert everything that is staged.

    Args:
        rows_linked: child rows refer to their parent's row, '<load>-<number>', instead of its key.
    """
    linking = rows_linked and any(column.name in (PARENT, ROW) for column in system_columns(family, layout))
    waiting = stage.waiting(family, layout) if not linking else []
    if waiting:
        columns = [*system_columns(family, layout), *layout.columns]
        for batch in waiting:
            engine.insert_stamped(engine.table(layout.name), columns, batch, stamp)
        return Counts(inserted=sum(batch.rows for batch in waiting))
    staged = stage.prepare(family, layout)
    into, values = list(layout.names), [f"s.{engine.quote(n)}" for n in layout.names]
    owner = [f"'{root_load}-'", engine.text_of("s._rb_owner")]
    for column in system_columns(family, layout):
        into.append(column.name)
        links = rows_linked and column.name in (PARENT, ROW)
        below = ["s._rb_parent"] if column.name == PARENT else []
        values.append(engine.concatenated(*owner, *below) if links else f"s.{column.name}")
    done = engine.run(
        f"""insert into {engine.table(layout.name)} ({engine.listed([*into, "_rb_ledger_line", "_rb_loaded_at"])})
            select {", ".join([*values, str(stamp.load), stamp.at])} from {staged} as s order by {engine.arrival}"""
    )
    return Counts(inserted=done)


@dataclass
class KeyedWrite:
    """Upserts, mirrors or adds versions for one family, from its stage.

    Attributes:
        history: keep versions.
        deletes: what to do with rows in `gone`.
        gone: the temporary table, as SQL, of keys that no longer exist at the source; None if none are known.
        dropped: rows taken out of the stage since they were counted.
    """

    engine: Engine
    stage: Stage
    family: Family
    stamps: Sequence[Stamp]
    history: bool
    deletes: Deletes
    marks: bool
    gone: str | None = None
    dropped: dict[str, int] = field(default_factory=dict)
    counts: list[Counts] = field(default_factory=list)

    def write(self) -> list[Counts]:
        """Write all tables, and return their counts in the family's order."""
        engine, family = self.engine, self.family
        staged = [self.stage.prepare(family, layout) for layout in family.tables]
        self.counts = [Counts() for _ in family.tables]
        goes = self.gone is not None and self.deletes != "ignore"
        marked = goes and self.deletes == "soft" and not self.history
        if len(family.tables) > 1:
            self._note_parents("rb_parents", self._replaced_parents(staged[0], with_gone=goes and not marked))
            if marked:
                self._note_parents("rb_marked", self._gone_parents())
        for place, layout in enumerate(family.tables):
            if place:
                self._clear_children(place, layout, staged[place])
            self._merge(place, layout, staged[place])
            if marked and place:
                self._mark(layout, f"{engine.temp}rb_marked_{place}", "parent")
        if goes:
            self._end_gone()
        for place in range(1, len(family.tables)):
            engine.drop_temp(f"rb_parents_{place}")
            if marked:
                engine.drop_temp(f"rb_marked_{place}")
        return self.counts

    def _merge(self, place: int, layout: TableLayout, staged: str) -> None:
        engine, stamp, counts = self.engine, self.stamps[place], self.counts[place]
        system = [c.name for c in system_columns(self.family, layout)]
        key = self.family.key if place == 0 else _PLACE
        merge = Merge(
            stage=staged,
            table=engine.table(layout.name),
            names=[*system, *layout.names],
            key=key,
            compared=[n for n in layout.names if place or n not in key],
            staged=self.stage.rows.get(layout.name, 0) - self.dropped.get(layout.name, 0),
            stamp=stamp,
            revive=self.marks and "_rb_deleted_at" in (engine.columns(layout.name) or {}),
        )
        engine.staged(staged, key)
        inserted, updated = engine.add_versions(merge) if self.history else engine.merge(merge)
        counts.inserted, counts.updated = inserted, updated
        counts.unchanged = merge.staged - inserted - updated

    # Children

    def _replaced_parents(self, staged: str, *, with_gone: bool) -> str:
        """A query for what the children of this load's records refer to, as far as their parents are in the table already."""
        engine, family = self.engine, self.family
        root = engine.table(family.root.name)
        points = engine.quote(family.key[0]) if family.reference == "key" else ROW
        found = (
            f"select s.{points} as parent from {staged} as s where exists "
            f"(select 1 from {root} as t where {engine.matching(family.key, 't', 's')})"
        )
        return f"{found} union all {self._gone_parents()}" if with_gone else found

    def _gone_parents(self) -> str:
        engine, family = self.engine, self.family
        points = engine.quote(family.key[0]) if family.reference == "key" else ROW
        return (
            f"select t.{points} as parent from {engine.table(family.root.name)} as t "
            f"join {self.gone} as g on {engine.matching(family.key, 't', 'g')}"
        )

    def _note_parents(self, name: str, roots: str) -> None:
        """Create temporary tables `name`_N with the affected `_rb_parent` values of each child table, before anything is written."""
        engine = self.engine
        for place, layout in enumerate(self.family.tables):
            if layout.parent is None:
                continue
            source = roots
            if layout.parent > 0:
                above = self.family.tables[layout.parent]
                parent = engine.concatenated(engine.text_of("t._rb_parent"), "'/'", engine.text_of("t._rb_ordinal"))
                source = (
                    f"select {parent} as parent from {engine.table(above.name)} as t "
                    f"join {engine.temp}{name}_{layout.parent} as p on t._rb_parent = p.parent"
                )
            engine.create_temp_as(f"{name}_{place}", f"select distinct parent from ({source}) as found")

    def _clear_children(self, place: int, layout: TableLayout, staged: str) -> None:
        """A changed parent's children are replaced as a set: those that are no more go, or end."""
        engine, parents = self.engine, f"{self.engine.temp}rb_parents_{place}"
        if not engine.query(f"select 1 from {parents} limit 1"):
            return
        current = "where t._rb_valid_until is null" if self.history else ""
        engine.create_temp_as(
            "rb_out",
            f"""select t._rb_parent, t._rb_ordinal from {engine.table(layout.name)} as t
                    join {parents} as p on t._rb_parent = p.parent {current}
                except select _rb_parent, _rb_ordinal from {staged}""",
        )
        if engine.query(f"select 1 from {engine.temp}rb_out limit 1"):
            self.counts[place].removed += self._end(layout, "rb_out", _PLACE)
        engine.drop_temp("rb_out")

    # What has gone

    def _end_gone(self) -> None:
        assert self.gone is not None
        root, name = self.family.root, self.gone.removeprefix(self.engine.temp)
        if self.deletes == "soft" and not self.history:
            self._mark(root, self.gone, None)
            return
        self.counts[0].removed += self._end(root, name, self.family.key)

    def _end(self, layout: TableLayout, temp: str, key: Sequence[str]) -> int:
        engine, table = self.engine, self.engine.table(layout.name)
        if not self.history:
            return engine.delete_matching(table, engine.temp + temp, key)
        at = self.stamps[0].at
        marked = "_rb_deleted_at" in (engine.columns(layout.name) or {})
        what = f"_rb_valid_until = {at}" + (f", _rb_deleted_at = {at}" if marked else "")
        return engine.update_matching(table, engine.temp + temp, key, what, "t._rb_valid_until is null")

    def _mark(self, layout: TableLayout, temp: str, column: str | None) -> None:
        """column: of the temp table that holds `_rb_parent` values; None where it holds the key."""
        engine, at = self.engine, self.stamps[0].at
        table = engine.table(layout.name)
        match = engine.matching(self.family.key, "t", "g") if column is None else f"t._rb_parent = g.{column}"
        done = engine.update_joined(table, temp, f"{match} and t._rb_deleted_at is null", f"_rb_deleted_at = {at}")
        self.counts[self.family.place(layout.name)].removed += done


def find_gone(
    engine: Engine, stage: Stage, family: Family, spared: str | None, *, history: bool, marks: bool, files: Sequence[int] = ()
) -> str | None:
    """After a complete read: a temporary table of the keys that the table holds and the source no longer shows; None for none.

    Args:
        files: only consider rows of these files, which were read again.
    """
    staged, root = stage.prepare(family, family.root), engine.table(family.root.name)
    keys = engine.listed(family.key, "t")
    engine.index_stage(staged, family.key)
    among = f" and t.{FILE} in ({', '.join(str(int(number)) for number in files)})" if files else ""
    current = " and t._rb_valid_until is null" if history else (" and t._rb_deleted_at is null" if marks else "")
    kept = f" and not exists (select 1 from {spared} as g where {engine.looked_up(family.key, 't', 'g')})" if spared else ""
    engine.create_temp_as(
        "rb_gone",
        f"""select {keys} from {root} as t
            where not exists (select 1 from {staged} as s where {engine.looked_up(family.key, "t", "s")}){current}{kept}{among}""",
    )
    gone = f"{engine.temp}rb_gone"
    if engine.query(f"select 1 from {gone} limit 1"):
        return gone
    engine.drop_temp(gone)
    return None


def drop_outdated(engine: Engine, stage: Stage, family: Family, table: str, current: str = "true") -> dict[str, int]:
    """Remove rows from the stage that are older, by the cursor, than the row of their key in a table (given as SQL)."""
    if not family.newest_by:
        return {}
    newest = engine.quote(family.newest_by)
    engine.create_temp_as(
        "rb_outdated",
        f"""select s._rb_owner from {stage.prepare(family, family.root)} as s
            join {table} as t on {engine.matching(family.key, "t", "s")} where {current}
            and (t.{newest} > s.{newest} or (s.{newest} is null and t.{newest} is not null))""",
    )
    return _drop_records(engine, stage, family)


def drop_outdated_rejects(
    engine: Engine, stage: Stage, family: Family, target: LoadTarget, rejected_in: Sequence[int], current: str = "true"
) -> dict[str, int]:
    """Remove replayed rejects from the stage if a later run loaded a row with their key, or their file again.

    Args:
        target: of this load, whose own lines do not count.
        rejected_in: the run that rejected a record, by the record's number.
        current: which rows of the table represent a key, as SQL over `t`.

    Returns:
        {table: rows that were removed}.
    """
    if not rejected_in:
        return {}
    columns = [ColumnShape("owner", "int64"), ColumnShape("met", "int64")]
    engine.create_temp("rb_met", columns)
    batch = TableBatch(
        "rb_met", len(rejected_in), range(len(rejected_in)),
        columns={"owner": ("int64", list(range(len(rejected_in)))), "met": ("int64", list(rejected_in))},
    )  # fmt: skip
    engine.insert(f"{engine.temp}rb_met", columns, batch)
    engine.create_temp("rb_outdated", [OWNER])
    staged = f"{stage.prepare(family, family.root)} as s join {engine.temp}rb_met as m on m.owner = s._rb_owner"
    ledger, later = engine.table("_rb_ledger"), f"where l.run > m.met and l.run <> {int(target.run)}"
    if family.key and target.write != "append":
        engine.run(
            f"""insert into {engine.temp}rb_outdated select s._rb_owner from {staged}
                join {engine.table(family.root.name)} as t on {engine.matching(family.key, "t", "s")}
                join {ledger} as l on l.load = t._rb_ledger_line {later} and {current}"""
        )
    if family.by_file and engine.columns(FILE) is not None:
        engine.execute(
            f"""insert into {engine.temp}rb_outdated select s._rb_owner from {staged}
                join {engine.table(FILE)} as t on t.number = s.{FILE} and t.feed = ? and t.source_table = ?
                join {ledger} as l on l.load = t.load {later}""",
            (target.feed, target.source_table),
        )
    engine.drop_temp("rb_met")
    return _drop_records(engine, stage, family)


def _drop_records(engine: Engine, stage: Stage, family: Family) -> dict[str, int]:
    """Those that are listed in rb_outdated, with what hangs on them."""
    dropped = {
        layout.name: engine.delete_matching(stage.prepare(family, layout), f"{engine.temp}rb_outdated", ["_rb_owner"])
        for layout in family.tables
    }
    engine.drop_temp("rb_outdated")
    return dropped
