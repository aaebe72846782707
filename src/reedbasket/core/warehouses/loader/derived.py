"""What a feed derives from a table that it loads: a view, or a table that is rebuilt whenever the loaded one changes."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

from ...errors import ReedError, TableNotOwned, WarehouseError
from ...spec.files import Derived
from ..engine import Engine

_LIST = "_rb_derived"
# The version of what was about to be made.
_NOT_WHOLE = -1


Ask = Callable[[str, Sequence[Any]], list[tuple[Any, ...]]]


def read_derived(query: Ask, table: str, feed: str, source_table: str) -> tuple[Any, ...] | None:
    """(name, view or table, query, version of the loaded table), as it was built last."""
    rows = query(f"select name, made_as, query, version from {table} where feed = ? and source_table = ?", (feed, source_table))
    return tuple(rows[0]) if rows else None


def is_current(held: tuple[Any, ...] | None, derived: Derived | None, version: int, *, exists: bool) -> bool:
    """Whether there is nothing to rebuild."""
    if derived is None or held is None:
        return derived is None and held is None
    whole = held[3] == version or (derived.made_as == "view" and held[3] != _NOT_WHOLE)
    return exists and whole and held[:3] == (derived.name, derived.made_as, derived.query)


def refresh(engine: Engine, feed: str, source_table: str, derived: Derived | None, version: int) -> str:
    """Rebuild the view or table, in a transaction. Readers see either the old one or the new one as a whole.

    Args:
        version: of the loaded table's state.

    Returns:
        What was done, in words; '' if nothing was.

    Raises:
        TableNotOwned: somebody else made a table of that name.
        WarehouseError: the warehouse refuses the query.
    """
    table = engine.table(_LIST)
    if engine.columns(_LIST) is None:
        if derived is None:
            return ""
        with engine.changing_tables():
            name, text = engine.key_text, engine.types["text"]
            engine.make_table(
                table,
                f"""feed {name} not null, source_table {name} not null, name {name} not null, made_as {name} not null,
                    query {text} not null, version bigint not null""",
            )
    rows = engine.query(
        f"select name, made_as, query, version from {table} where feed = ? and source_table = ?", (feed, source_table)
    )
    ours = {name: made_as for name, made_as, _, _ in rows}
    if derived is None:
        if not ours:
            return ""
        with engine.changing_tables():
            _drop(engine, ours)
        engine.execute(f"delete from {table} where feed = ? and source_table = ?", (feed, source_table))
        return (
            " and ".join(f"the {made_as} {name} goes" for name, made_as in ours.items())
            + ", since the feed no longer defines it"
        )
    there = engine.columns(derived.name) is not None
    if len(rows) == 1 and is_current(rows[0], derived, version, exists=there):
        return ""
    if there and derived.name not in ours:
        raise TableNotOwned(
            "making", derived.name, found="there is a table or view of that name already, which this feed did not create",
            fix="give it another name (`derived: {view: …}`)",
        )  # fmt: skip
    if engine.ddl_commits and ours.get(derived.name) != derived.made_as:
        _note(engine, feed, source_table, derived, _NOT_WHOLE)  # so that what is made is known as ours, should this be cut
    try:
        with engine.changing_tables(), engine.in_default_schema():
            _drop(engine, ours)
            engine.make(derived.made_as, derived.name, derived.query)
    except ReedError:
        raise
    except Exception as error:
        raise WarehouseError(
            "making", derived.name, found=" ".join(str(error).split())[:500],
            fix="fix its `query`: it is SQL of the warehouse, over its tables; what was loaded stays", code="warehouse.derived_refused",
        ) from error  # fmt: skip
    engine.execute(f"delete from {table} where feed = ? and source_table = ?", (feed, source_table))
    _note(engine, feed, source_table, derived, version)
    rows_now = engine.query(f"select count(*) from {engine.table(derived.name)}")[0][0] if derived.made_as == "table" else None
    return f"the {derived.made_as} {derived.name} was created" + (f", {rows_now:,} rows" if rows_now is not None else "")


def _note(engine: Engine, feed: str, source_table: str, derived: Derived, version: int) -> None:
    engine.execute(
        f"insert into {engine.table(_LIST)} (feed, source_table, name, made_as, query, version) values (?, ?, ?, ?, ?, ?)",
        (feed, source_table, derived.name, derived.made_as, derived.query, version),
    )


def _drop(engine: Engine, made: Mapping[str, str]) -> None:
    """made: {name: view or table}."""
    for name, made_as in made.items():
        if engine.columns(name) is not None:
            engine.run(f"drop {made_as} {engine.table(name)}")
