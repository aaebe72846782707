"""`_rb_unfinished`: what a commit intends to do, if statements that change tables commit implicitly. Empty between commits."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

from ..engine import Engine, transaction
from ..loading import LoadTarget

TABLE = "_rb_unfinished"


def ensure(engine: Engine) -> None:
    """Create the table. Not within a transaction."""
    if engine.columns(TABLE) is None:
        name = engine.key_text
        engine.make_table(
            engine.table(TABLE),
            f'feed {name} not null, source_table {name} not null, "table" {name} not null, built_in {name} not null',
        )


def note_new_tables(engine: Engine, target: LoadTarget, tables: Sequence[str]) -> None:
    """Note tables that are about to be created."""
    _note(engine, target, dict.fromkeys(tables, ""))


def note_swap(engine: Engine, target: LoadTarget, names: Mapping[str, str]) -> None:
    """Note tables whose rows are complete in shadow tables.

    Args:
        names: {table: its shadow table}.
    """
    _note(engine, target, names)


def _note(engine: Engine, target: LoadTarget, names: Mapping[str, str]) -> None:
    for table, built_in in names.items():
        engine.execute(
            f'insert into {engine.table(TABLE)} (feed, source_table, "table", built_in) values (?, ?, ?, ?)',
            (target.feed, target.source_table, table, built_in),
        )


def unfinished_tables(engine: Engine, target: LoadTarget) -> list[str]:
    """Tables that a commit of this feed was about to create."""
    rows = engine.query(
        f"""select "table" from {engine.table(TABLE)} where feed = ? and source_table = ? and built_in = ''""",
        (target.feed, target.source_table),
    )
    return [row[0] for row in rows]


def forget(engine: Engine, target: LoadTarget) -> None:
    """Remove everything that was noted for a table."""
    engine.execute(f"delete from {engine.table(TABLE)} where feed = ? and source_table = ?", (target.feed, target.source_table))


Ask = Callable[[str, Sequence[Any]], list[tuple[Any, ...]]]


def swaps(query: Ask, sql_name: str, feed: str, source_table: str) -> dict[str, str]:
    """{table: the shadow table that has to replace it}.

    Args:
        sql_name: of `_rb_unfinished`.
    """
    rows = query(
        f"""select "table", built_in from {sql_name} where feed = ? and source_table = ? and built_in <> ''""",
        (feed, source_table),
    )
    return dict(rows)


def finish(engine: Engine, feed: str, source_table: str) -> None:
    """Let complete shadow tables replace their tables, if they have not yet."""
    noted = swaps(engine.query, engine.table(TABLE), feed, source_table)
    waiting = {table: built_in for table, built_in in noted.items() if engine.columns(built_in) is not None}
    if waiting:
        engine.exchange(waiting)
    with transaction(engine):
        engine.execute(
            f"delete from {engine.table(TABLE)} where feed = ? and source_table = ? and built_in <> ''", (feed, source_table)
        )
