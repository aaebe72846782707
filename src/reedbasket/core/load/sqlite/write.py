"""The write modes as set-based SQL, from the stage into the tables, inside the load's transaction."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from dataclasses import dataclass

from ...shape.structure import TableShape
from .ddl import ensure_key, listed, quote
from .stage import Stage


@dataclass
class Counts:
    inserted: int = 0
    updated: int = 0
    unchanged: int = 0
    superseded: int = 0
    removed: int = 0


# From the name a table has for its readers to the one it has now: the same, or one it is being built under.
Names = Callable[[str], str]


@dataclass(frozen=True)
class Stamp:
    """What the loader writes into each row: load id and time."""

    load: int
    at: str


def drop_superseded(
    connection: sqlite3.Connection, stage: Stage, root: TableShape, key: list[str], newest_by: str | None
) -> dict[str, int]:
    """Leave one row per key in the stage, the newest by cursor, then by order: {table: rows dropped}.

    Every engine treats a key that comes twice in one statement differently, so none is left to meet it.
    """
    name = stage.prepare(root)
    short = name.removeprefix("temp.")
    connection.execute(f"create index temp.{short}_by_key on {short} ({listed(key)})")
    try:
        twice = connection.execute(f"select 1 from {name} group by {listed(key)} having count(*) > 1 limit 1").fetchone()
        if twice is None:
            return {}
        newest = f"{quote(newest_by)} desc, " if newest_by else ""
        connection.execute(
            f"""create temp table superseded as
                select _rb_owner from (
                    select _rb_owner, row_number() over (partition by {listed(key)} order by {newest}_rb_owner desc) as place
                    from {name}
                ) where place > 1"""
        )
        dropped = {}
        for table in root.family():
            staged = stage.name(table.name)
            if staged is not None:
                gone = connection.execute(f"delete from {staged} where _rb_owner in (select _rb_owner from superseded)")
                dropped[table.name] = gone.rowcount
        connection.execute("drop table superseded")
        return dropped
    finally:
        connection.execute(f"drop index temp.{short}_by_key")


def insert_all(
    connection: sqlite3.Connection, stage: Stage, table: TableShape, stamp: Stamp, *, rows_linked: bool, root_load: int
) -> Counts:
    """Append everything staged. rows_linked: children point at their parent's row, '<load>-<number>', not at a key."""
    staged = stage.prepare(table)
    names = [c.name for c in table.columns()]
    into, values = listed(names), listed(names, "s.")
    if table.parent_kind is not None:
        into = "_rb_parent, _rb_pos" + (", " + into if names else "")
        parent = f"'{root_load}-' || s._rb_owner || s._rb_parent" if rows_linked else "s._rb_parent"
        values = f"{parent}, s._rb_pos" + (", " + values if names else "")
    elif rows_linked and table.children():
        into += (", " if names else "") + "_rb_row"
        values += (", " if names else "") + f"'{root_load}-' || s._rb_owner"
    comma = ", " if into else ""
    done = connection.execute(
        f"""insert into main.{quote(table.name)} ({into}{comma}_rb_load, _rb_at)
            select {values}{comma}?, ? from {staged} as s order by s.rowid""",
        (stamp.load, stamp.at),
    )
    return Counts(inserted=done.rowcount)


def drop_outdated(
    connection: sqlite3.Connection, stage: Stage, root: TableShape, into: Names, key: list[str], newest_by: str
) -> None:
    """Take out of the stage what is older, by the cursor, than the row of its key that is there already."""
    match = " and ".join(f"t.{quote(k)} = s.{quote(k)}" for k in key)
    connection.execute(
        f"""create temp table outdated as select s._rb_owner from {stage.prepare(root)} as s
            join main.{quote(into(root.name))} as t on {match} where t.{quote(newest_by)} > s.{quote(newest_by)}
                or (s.{quote(newest_by)} is null and t.{quote(newest_by)} is not null)"""
    )
    for table in root.family():
        connection.execute(f"delete from {stage.prepare(table)} where _rb_owner in (select _rb_owner from outdated)")
    connection.execute("drop table outdated")


def merge(
    connection: sqlite3.Connection, stage: Stage, table: TableShape, target_table: str, key: list[str], stamp: Stamp | None
) -> Counts:
    """Insert new keys, update changed rows, leave equal ones untouched, with their load and time.

    stamp: None where the table has no columns for it yet.
    """
    staged = stage.prepare(table)
    columns = [c.name for c in table.columns()]
    names = ["_rb_parent", "_rb_pos", *columns] if table.parent_kind is not None else columns
    rest = [c for c in columns if c not in key]
    target = quote(target_table)
    total = connection.execute(f"select count(*) from {staged}").fetchone()[0]
    ensure_key(connection, target_table, key)
    # New rows get the row ids after the highest, so the growth of the highest is the number of rows inserted: exact,
    # and without a second join against the whole table.
    highest = f"select coalesce(max(_rowid_), 0) from main.{target}"
    before = connection.execute(highest).fetchone()[0]
    if rest:
        sets = ", ".join(f"{quote(c)} = excluded.{quote(c)}" for c in rest)
        # As row values: a chain of ORs over 1,000 columns is deeper than SQLite's expressions may be.
        differs = f"({listed(rest, target + '.')}) is not ({listed(rest, 'excluded.')})"
        stamps = ", _rb_load = excluded._rb_load, _rb_at = excluded._rb_at" if stamp else ""
        conflict = f"do update set {sets}{stamps} where {differs}"
    else:
        conflict = "do nothing"
    # Without `where true` SQLite's parser takes ON CONFLICT for a join's ON (https://sqlite.org/lang_upsert.html, 2.1).
    done = connection.execute(
        f"""insert into main.{target} ({listed(names)}{", _rb_load, _rb_at" if stamp else ""})
            select {listed(names, "s.")}{", ?, ?" if stamp else ""} from {staged} as s where true
            on conflict ({listed(key)}) {conflict}""",
        (stamp.load, stamp.at) if stamp else (),
    )
    inserted = connection.execute(highest).fetchone()[0] - before
    return Counts(inserted=inserted, updated=done.rowcount - inserted, unchanged=total - done.rowcount)


def note_parents(connection: sqlite3.Connection, stage: Stage, root: TableShape, into: Names, key: list[str]) -> None:
    """Before anything is written: for each child table, whose children this load replaces (temp.parents_N).

    The parents are what children of the staged records point at; for grandchildren, the children held so far.
    """
    staged = stage.prepare(root)
    for number, (_, above) in enumerate(_with_parents(root)):
        connection.execute(f"drop table if exists temp.parents_{number}")
        if above is None:
            # Only parents held before have children to be replaced; in a load of new ones this is empty, and cheap.
            single = f"s.{quote(key[0])}" if len(key) == 1 else f"json_array({listed(key, 's.')})"
            match = " and ".join(f"t.{quote(k)} = s.{quote(k)}" for k in key)
            source = (
                f"select {single} as parent from {staged} as s "
                f"where exists (select 1 from main.{quote(into(root.name))} as t where {match})"
            )
        else:
            up = above[0]
            source = (
                f"select t._rb_parent || '/' || t._rb_pos as parent from main.{quote(into(above[1].name))} as t "
                f"join temp.parents_{up} as p on t._rb_parent = p.parent"
            )
        connection.execute(f"create temp table parents_{number} as {source}")


def merge_children(
    connection: sqlite3.Connection, stage: Stage, root: TableShape, number: int, into: Names, stamp: Stamp | None
) -> Counts:
    """The children of the staged parents, as a set: new and changed ones written, those that are no more removed."""
    table = list(root.family())[number + 1]
    staged = stage.prepare(table)
    short = staged.removeprefix("temp.")
    ensure_key(connection, into(table.name), ["_rb_parent", "_rb_pos"])
    target = quote(into(table.name))
    gone = 0
    if connection.execute(f"select 1 from temp.parents_{number} limit 1").fetchone():
        connection.execute(f"create index temp.{short}_by_parent on {short} (_rb_parent, _rb_pos)")
        gone = connection.execute(
            f"""delete from main.{target} where _rowid_ in (
                    select t._rowid_ from temp.parents_{number} as p join main.{target} as t on t._rb_parent = p.parent
                    where not exists (
                        select 1 from {staged} as s where s._rb_parent = t._rb_parent and s._rb_pos = t._rb_pos
                    )
                )"""
        ).rowcount
        connection.execute(f"drop index temp.{short}_by_parent")
    counts = merge(connection, stage, table, into(table.name), ["_rb_parent", "_rb_pos"], stamp)
    counts.removed = gone
    connection.execute(f"drop table temp.parents_{number}")
    return counts


def _with_parents(root: TableShape) -> list[tuple[TableShape, tuple[int, TableShape] | None]]:
    """Child tables in the family's order, each with (number, table) of the one above, None where that is the root."""
    found: list[tuple[TableShape, tuple[int, TableShape] | None]] = []
    tables = list(root.family())[1:]
    for table in tables:
        above = next(((i, t) for i, t in enumerate(tables) if any(c is table for c in t.children())), None)
        found.append((table, above))
    return found
