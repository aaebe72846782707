"""Migrating a table when its feed is written in another way from now on."""

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
    """What a changed write mode, key or cursor means for the rows that are loaded.

    Attributes:
        steps: what the next load does, in words.
        losses: what cannot be kept; if there is anything, the run needs `--allow-loss`.
        forget_cursor: the saved cursor is no longer valid, and the table is read from its beginning.
        reloads_children: child tables are loaded again, so the run commits only at its end.
    """

    steps: list[str] = field(default_factory=list)
    losses: list[str] = field(default_factory=list)
    forget_cursor: bool = False
    reloads_children: bool = False

    @property
    def needed(self) -> bool:
        """Whether anything has to be done or lost."""
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
    """The transition of a table from its present state.

    Args:
        cursor: (column, type) if changes are found by a cursor.
    """
    if state is None:
        return Transition()
    before: str = state.write or ("append" if state.link == "row" else "upsert")
    steps: list[str] = []
    losses: list[str] = []
    forget = _is_of_another(state.cursor, cursor)
    if forget and state.cursor and cursor:
        stood = "the log" if state.cursor.kind == "cdc" else f"{state.cursor.column or 'another column'} ({state.cursor.kind})"
        steps.append(f"the saved cursor was for {stood}, so the table is read from its beginning, by {cursor[0]}")
    losses += _lost_versions(before, write)
    if write == "versions" and before not in ("versions", "replace"):
        steps.append("its rows become the current versions, from the time they were loaded")
    unknown, reloads_children = _unknown(state, key), False
    if write in KEYED and unknown:
        forget = True
        losses.append(f"the existing rows, which have no {', '.join(unknown)}; the table is read from its beginning")
    elif write in KEYED and (link != state.link or list(key) != state.key):
        if before != "replace" or state.link == "row" or list(key) != state.key:
            steps.append(f"rows that share a key ({', '.join(key)}) are reduced to the newest one, and the key gets its index")
        reloads_children = bool(state.structure.children())
    if reloads_children:
        steps.append("child tables are reloaded, because they now refer to their parents in another way")
        if by == "cursor" and not forget:
            forget = True
            losses.append("children of rows that the source no longer shows; the table is read from its beginning")
    if write == "append":
        losses += _twice_by_append(state.cursor, before, by, forget)
    if write == "append" and before != "append":
        steps.append("the key's index is dropped: from now on every record is a separate row")
        forget = forget and by != "cursor"
    if write == "replace" and before != "replace":
        steps.append("the next run rebuilds the table")
    return Transition(steps, losses, forget, reloads_children)


def _lost_versions(before: str, write: Write) -> list[str]:
    lost = before == "versions" and write != "versions"
    return ["the older versions of its rows; only the current ones stay"] if lost else []


def _is_of_another(saved: SavedCursor | None, cursor: tuple[str, str] | None) -> bool:
    """Whether the saved cursor belongs to another way of finding changes."""
    if not saved or saved.kind == "ranges" or not cursor:
        return False
    return saved.kind != cursor[1] or (saved.kind != "cdc" and saved.column is not None and saved.column != cursor[0])


def _twice_by_append(saved: SavedCursor | None, before: str, by: str, forget: bool) -> list[str]:
    """What cannot be kept where rows are appended from now on."""
    changes = before != "append"
    if forget or (changes and by == "cursor" and saved is None):
        if changes and by != "cursor":
            return []
        return ["the position of the last run: what is loaded already is read and appended again"]
    if changes and by == "cursor" and saved is not None and saved.seen is None:
        return ["which records at the cursor's boundary were loaded: some may be appended again"]
    return []


class WriteModeMigration:
    """Migrates tables to the new write mode. Each step may be repeated after an interruption."""

    def __init__(self, engine: Engine, family: Family, target: LoadTarget, state: TableState) -> None:
        self._engine = engine
        self._family = family
        self._target = target
        self._state = state
        self._before: str = state.write or ("append" if state.link == "row" else "upsert")
        self._rewritten = target.link != state.link or target.key != state.key

    @classmethod
    def of(cls, engine: Engine, family: Family, target: LoadTarget, state: TableState) -> WriteModeMigration | None:
        """The migration of a table; None if its write mode has not changed."""
        made = cls(engine, family, target, state)
        return made if made._rewritten or made._before != target.write else None

    def release_keys(self) -> None:
        """Drop the indexes of the keys; new ones are created after the rows were moved."""
        for layout in self._family.tables:
            self._engine.drop_key(layout.name)

    def move_rows(self, stamp: Stamp) -> list[str]:
        """Migrate the rows, in one transaction. Returns what was done, in words."""
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
        """Drop the columns for versions if versions are no longer kept."""
        if self._target.write != "versions":
            drop_version_columns(self._engine, self._family)


def drop_version_columns(engine: Engine, family: Family) -> None:
    """Drop the columns for versions from tables that do not keep versions."""
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
    """Change the key. Returns what was done, in words. Children are loaded again, because they refer to their parents in another way."""
    done = []
    if unknown := _unknown(state, target.key):
        emptied = engine.run(f"delete from {engine.table(family.root.name)}")
        done.append(f"{emptied} rows without {', '.join(unknown)}, which is now part of the key, removed")
    elif family.key:
        done.append(f"{_reduce(engine, family)} rows with a repeated key removed, and the newest kept")
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
    """Fields of a new key that no row of the table has, so that rows cannot be identified by it."""
    loaded = bool(state.structure.root.fields) and list(key) != state.key
    return [field for field in key if state.structure.field(field) is None] if loaded else []


def _reduce(engine: Engine, family: Family) -> int:
    """Keep only the newest of rows that share a key, by cursor, then by load; keep rows without a key as they are."""
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
    """Give rows that were referred to by their key a `_rb_row_key`, unlike any that a load creates."""
    root = engine.table(family.root.name)
    key = state.structure.root.fields.get(state.key[0]) if len(state.key) == 1 else None
    plain = getattr(key, "kind", None) in ("int64", "text")
    points = engine.quote(getattr(key, "name", "")) if plain else "_rb_row_key"
    engine.run(f"""update {root} set _rb_row_key = {engine.concatenated("'key '", engine.text_of(points))}""")
    for layout in family.tables[1:]:
        parent = engine.concatenated("'key '", engine.text_of("_rb_parent"))
        engine.run(f"update {engine.table(layout.name)} set _rb_parent = {parent}")
