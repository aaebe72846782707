"""The files of a source that are in a table: a line for each, written in the transaction that commits its rows."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Any, Literal, NamedTuple

from ...records.layout import Family
from ...records.structure import ColumnShape
from ...shaping.batch import TableBatch
from ..engine import FILE, PARENT, Engine

FileState = Literal["loaded", "failed", "ignored", "missing", "requeued"]


class FileLine(NamedTuple):
    """One file of one table.

    Attributes:
        number: what `_rb_file` of its rows refers to; a path keeps its number.
        size: bytes.
        modified: RFC 3339; '' if the store does not say.
        tag: by which the store identifies the content.
        rows: the number of its records.
        rejected: how many of them were rejected.
        state: loaded; failed (it could not be read to its end, none of it is loaded, rows of an earlier version stay); ignored (it
            changed, and the feed keeps the version that is loaded); missing (it is no longer at the source, its rows stay); requeued (the
            next run loads it again, on request).
    """

    number: int
    path: str
    size: int
    modified: str
    tag: str
    state: FileState
    rows: int = 0
    rejected: int = 0
    load: int | None = None
    at: str = ""
    problem: str = ""
    replaces: bool = False

    def as_dict(self) -> dict[str, Any]:
        """{field: value}, for JSON."""
        return {name: value for name, value in self._asdict().items() if name != "replaces"}


_COLUMNS = ("number", "path", "size", "modified", "tag", "state", "rows", "rejected", "load", "at", "problem")
# Lines that are written one by one.
_FEW = 3
_WHOLE = frozenset({"number", "size", "rows", "rejected", "load"})


def save_files(
    engine: Engine, feed: str, source_table: str, lines: Sequence[FileLine], load: int, at: str, *, new: bool
) -> None:
    """Within the load's transaction. load, at: of the lines that were taken in it. new: the list was made just now."""
    table = engine.table(FILE)
    if len(lines) <= _FEW:
        _save_few(engine, feed, source_table, [[_value(line, name, load, at) for name in _COLUMNS] for line in lines], new=new)
        return
    columns = [ColumnShape(name, "int64" if name in _WHOLE else "text") for name in _COLUMNS]
    engine.create_temp("rb_files", columns, ["number"])
    temp = engine.temp + "rb_files"
    values = {name: [_value(line, name, load, at) for line in lines] for name in _COLUMNS}
    batch = TableBatch(
        "rb_files", len(lines), range(len(lines)),
        columns={name: ("int64" if name in _WHOLE else "text", data) for name, data in values.items()},
    )  # fmt: skip
    engine.insert(temp, columns, batch)
    names = engine.listed(_COLUMNS)
    if not new:
        engine.execute(
            f"delete from {table} where feed = ? and source_table = ? and number in (select number from {temp})",
            (feed, source_table),
        )
    engine.execute(f"insert into {table} (feed, source_table, {names}) select ?, ?, {names} from {temp}", (feed, source_table))
    engine.drop_temp(temp)


def _save_few(engine: Engine, feed: str, source_table: str, lines: Sequence[Sequence[Any]], *, new: bool) -> None:
    """Without the detour, which takes longer than a load of one small file. lines: values of _COLUMNS."""
    table, names = engine.table(FILE), engine.listed(_COLUMNS)
    marks = ", ".join("?" * (len(_COLUMNS) + 2))
    for line in lines:
        if not new:
            engine.execute(
                f"delete from {table} where feed = ? and source_table = ? and number = ?", (feed, source_table, line[0])
            )
        engine.execute(f"insert into {table} (feed, source_table, {names}) values ({marks})", (feed, source_table, *line))


def _value(line: FileLine, name: str, load: int, at: str) -> Any:
    taken = line.load is None and line.state in ("loaded", "failed")
    if name == "load":
        return load if taken and line.state == "loaded" else line.load
    if name == "at":
        return at if taken else line.at
    return getattr(line, name)


# (columns, the statement from `from` on, its values): rows in no order.
AskMany = Callable[[Sequence[str], str, Sequence[Any]], Iterable[tuple[Any, ...]]]


def read_files(query: AskMany, table: str, feed: str, source_table: str) -> list[FileLine]:
    """In no order."""
    rows = query(_COLUMNS, f"from {table} where feed = ? and source_table = ?", (feed, source_table))
    return [FileLine(*row) for row in rows]


def requeue_files(engine: Engine, feed: str, source_table: str, paths: Sequence[str]) -> int:
    """Have the next run load these files again. Returns how many there are."""
    for path in paths:
        engine.execute(
            f"update {engine.table(FILE)} set state = 'requeued' where feed = ? and source_table = ? and path = ?",
            (feed, source_table, path),
        )
    return len(paths)


def drop_replaced(engine: Engine, family: Family, numbers: Sequence[int]) -> list[int]:
    """Delete the rows of files from a table that is appended to, with all rows below them. Returns how many, by table."""
    listed = ", ".join(str(int(number)) for number in numbers)
    root = family.root
    removed = [0] * len(family.tables)
    there = [engine.columns(layout.name) is not None for layout in family.tables]
    for place, layout in enumerate(family.tables):
        if layout.parent is None or not there[place]:
            continue
        if layout.parent == 0:
            points = engine.quote(family.key[0]) if family.reference == "key" else "_rb_row_key"
            parents = f"select {points} from {engine.table(root.name)} where {FILE} in ({listed})"
        else:
            points = engine.concatenated(engine.text_of("t._rb_parent"), "'/'", engine.text_of("t._rb_ordinal"))
            parents = f"""select {points} from {engine.table(family.tables[layout.parent].name)} as t
                          join {engine.temp}rb_old_{layout.parent} as p on t.{PARENT} = p.{PARENT}"""
        engine.create_temp(f"rb_old_{place}", [ColumnShape(PARENT, layout.parent_kind)], [PARENT])
        engine.run(f"insert into {engine.temp}rb_old_{place} ({PARENT}) {parents}")
    for place, layout in enumerate(family.tables):
        if place and there[place]:
            removed[place] = engine.delete_matching(engine.table(layout.name), f"{engine.temp}rb_old_{place}", [PARENT])
            engine.drop_temp(f"rb_old_{place}")
    removed[0] = engine.run(f"delete from {engine.table(root.name)} where {FILE} in ({listed})")
    return removed
