"""Bringing a table along when its feed is written in another way from now on: what that takes, and doing it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from ...records.layout import Family, TableLayout
from ...records.position import SavedCursor
from ...spec.model import KEYED, Write
from ..engine import Engine
from ..loading import LoadTarget
from ..merge import Stamp
from ..warehouse import TableState
from .write_modes import newest_first


@dataclass(frozen=True)
class Transition:
    """What a change of writing, key or cursor means for what is loaded already.

    steps: what the next load does, in words. losses: what cannot be kept; the run asks for `--allow-loss` where there are any.
    forget_cursor: the saved cursor means nothing any more, the table is read from its start. reloads_children: child
    tables are loaded again, so the run commits only at its end.
    """

    steps: list[str] = field(default_factory=list)
    losses: list[str] = field(default_factory=list)
    forget_cursor: bool = False
    reloads_children: bool = False

    @property
    def needed(self) -> bool:
        """Whether anything has to be done or given up."""
        return bool(self.steps or self.losses)


def transition(
    state: TableState | None,
    *,
    write: Write,
    key: Sequence[str],
    link: str,
    by: str,
    cursor: tuple[str, str] | None,
) -> Transition:
    """cursor: (column, type) of the rule in force where changes are found by it."""
    if state is None:
        return Transition()
    before: str = state.write or ("append" if state.link == "row" else "upsert")
    steps: list[str] = []
    losses: list[str] = []
    forget = _is_of_another(state.cursor, cursor)
    if forget and state.cursor and cursor:
        stood = "the log" if state.cursor.kind == "cdc" else f"{state.cursor.column or 'another column'} ({state.cursor.kind})"
        steps.append(f"the saved cursor was for {stood}, so the table is read from its start, by {cursor[0]}")
    losses += _lost_versions(before, write)
    if write == "versions" and before not in ("versions", "replace"):
        steps.append("its rows become the current versions, from the time they were loaded")
    unknown, reloads_children = _unknown(state, key), False
    if write in KEYED and unknown:
        forget = True
        losses.append(f"the rows that are there, which have no {', '.join(unknown)}; the table is read from its start")
    elif write in KEYED and (link != state.link or list(key) != state.key):
        if before != "replace" or state.link == "row" or list(key) != state.key:
            steps.append(f"rows that share a key ({', '.join(key)}) are reduced to the newest, and the key gets its index")
        reloads_children = bool(state.structure.children())
    if reloads_children:
        steps.append("child tables are reloaded, since they point at their parents in another way now")
        if by == "cursor" and not forget:
            forget = True
            losses.append("children of rows that the source no longer shows; the table is read from its start")
    if write == "append":
        losses += _twice_by_append(state.cursor, before, by, forget)
    if write == "append" and before != "append":
        steps.append("the key's index goes: from now on every record is a row of its own")
        forget = forget and by != "cursor"
    if write == "replace" and before != "replace":
        steps.append("the next run rebuilds the table")
    return Transition(steps, losses, forget, reloads_children)


def _lost_versions(before: str, write: Write) -> list[str]:
    lost = before == "versions" and write != "versions"
    return ["the older versions of its rows; only the current ones stay"] if lost else []


def _is_of_another(saved: SavedCursor | None, cursor: tuple[str, str] | None) -> bool:
    """Whether what is saved says how far something else was read than what changes are found by now."""
    if not saved or saved.kind == "ranges" or not cursor:
        return False
    return saved.kind != cursor[1] or (saved.kind != "cdc" and saved.column is not None and saved.column != cursor[0])


def _twice_by_append(saved: SavedCursor | None, before: str, by: str, forget: bool) -> list[str]:
    """What cannot be kept where rows are appended from now on."""
    changes = before != "append"
    if forget or (changes and by == "cursor" and saved is None):
        if changes and by != "cursor":
            return []
        return ["the place where the last run stopped: what is there already is read and appended once more"]
    if changes and by == "cursor" and saved is not None and saved.seen is None:
        return ["which records at the cursor's edge were taken: some may be appended once more"]
    return []


class WriteModeMigration:
    """What makes the tables what the new way of writing needs. Each step may be taken again after it was cut."""

    def __init__(self, engine: Engine, family: Family, target: LoadTarget, state: TableState) -> None:
        self._engine = engine
        self._family = family
        self._target = target
        self._state = state
        self._before: str = state.write or ("append" if state.link == "row" else "upsert")
        self._rewritten = target.link != state.link or target.key != state.key

    @classmethod
    def of(cls, engine: Engine, family: Family, target: LoadTarget, state: TableState) -> WriteModeMigration | None:
        """None where the table stays as it is written."""
        made = cls(engine, family, target, state)
        return made if made._rewritten or made._before != target.write else None

    def release_keys(self) -> None:
        """The indexes of the keys go; those of the new way are made once the rows have moved."""
        for layout in self._family.tables:
            self._engine.drop_key(layout.name)

    def move_rows(self, stamp: Stamp) -> list[str]:
        """Within one transaction: what was done, in words."""
        engine, family, target = self._engine, self._family, self._target
        done: list[str] = []
        if self._before == "versions" and target.write != "versions":
            done.append(f"{_drop_older_versions(engine, family)} older versions removed")
        if self._rewritten and target.write in KEYED:
            done += _change_key(engine, family, target, self._state)
        if self._rewritten and target.write == "append" and len(family.tables) > 1:
            _link_by_row(engine, family, self._state)
        if target.write == "versions" and self._before != "versions":
            _begin_versions(engine, family, stamp)
        return done

    def drop_columns(self) -> None:
        """Those of versions, where none are kept any more."""
        if self._target.write != "versions":
            drop_version_columns(self._engine, self._family)


def drop_version_columns(engine: Engine, family: Family) -> None:
    """Of tables that keep no versions (any more)."""
    for layout in family.tables:
        there = engine.columns(layout.name) or {}
        for column in ("_rb_valid_from", "_rb_valid_until"):
            if column in there:
                engine.drop_column(layout.name, column)


def _drop_older_versions(engine: Engine, family: Family) -> int:
    return sum(
        engine.run(f"delete from {engine.table(layout.name)} where _rb_valid_until is not null")
        for layout in family.tables
        if "_rb_valid_until" in (engine.columns(layout.name) or {})
    )


def _change_key(engine: Engine, family: Family, target: LoadTarget, state: TableState) -> list[str]:
    """What was done, in words. Children are loaded anew: they point at their parents in another way from now on."""
    done = []
    if unknown := _unknown(state, target.key):
        emptied = engine.run(f"delete from {engine.table(family.root.name)}")
        done.append(f"{emptied} rows without {', '.join(unknown)}, now of the key, removed")
    elif family.key:
        done.append(f"{_reduce(engine, family)} rows of a key that stood twice removed, the newest kept")
    for layout in family.tables[1:]:
        engine.run(f"delete from {engine.table(layout.name)}")
    return done


def _begin_versions(engine: Engine, family: Family, stamp: Stamp) -> None:
    for layout in family.tables:
        table = engine.table(layout.name)
        engine.run(f"update {table} set _rb_valid_from = coalesce(_rb_loaded_at, {stamp.at}) where _rb_valid_from is null")
        if "_rb_deleted_at" in (engine.columns(layout.name) or {}):
            engine.run(f"update {table} set _rb_valid_until = _rb_deleted_at where _rb_deleted_at is not null")


def _unknown(state: TableState, key: Sequence[str]) -> list[str]:
    """Fields of a new key that no row of the table was ever loaded with: its rows can be told by it no more."""
    loaded = bool(state.structure.root.fields) and list(key) != state.key
    return [field for field in key if state.structure.field(field) is None] if loaded else []


def _reduce(engine: Engine, family: Family) -> int:
    """Of rows that share a key leave the newest, by cursor, then by load; rows without a key stay as they are."""
    root: TableLayout = family.root
    table, key, row = engine.table(root.name), engine.listed(family.key), engine.row_id
    present = " and ".join(f"{engine.quote(k)} is not null" for k in family.key)
    return engine.run(
        f"""delete from {table} where {row} in (select at_row from (
                select {row} as at_row, row_number() over (
                    partition by {key} order by {newest_first(engine, family)}_rb_ledger_line desc, {row} desc) as place
                from {table} where {present}
            ) as ranked where place > 1)"""
    )


def _link_by_row(engine: Engine, family: Family, state: TableState) -> None:
    """Rows that were pointed at by their key get a `_rb_row_key` of their own, unlike any that a load makes."""
    root = engine.table(family.root.name)
    key = state.structure.root.fields.get(state.key[0]) if len(state.key) == 1 else None
    plain = getattr(key, "kind", None) in ("int64", "text")
    points = engine.quote(getattr(key, "name", "")) if plain else "_rb_row_key"
    engine.run(f"""update {root} set _rb_row_key = {engine.concatenated("'key '", engine.text_of(points))}""")
    for layout in family.tables[1:]:
        parent = engine.concatenated("'key '", engine.text_of("_rb_parent"))
        engine.run(f"update {engine.table(layout.name)} set _rb_parent = {parent}")
