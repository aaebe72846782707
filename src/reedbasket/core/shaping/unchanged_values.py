"""Rows whose large values did not change, so that the change log does not contain them: where each value is to be found instead."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from ..records.change_records import Logged
from ..records.layout import Family
from ..records.structure import ColumnShape
from .batch import TableBatch
from .columns import ShapedColumns
from .selection import only
from .shaper import Shaper

# Beside the key: only rows staged behind `since` and before `until` count; since is -1 where the warehouse's own row does too.
SINCE, UNTIL = "_rb_since", "_rb_until_owner"


class UnchangedValues:
    """Follows one load. Remembers keys that changed, because older values are stored under the old one."""

    def __init__(self) -> None:
        # {key that a row moved to: (the last owner before that, under which keys its older values stand and between which owners)}
        self._before: dict[tuple[Any, ...], tuple[int, list[tuple[tuple[Any, ...], int, int]]]] = {}

    def committed(self) -> None:
        """The warehouse now has all values under their latest keys."""
        self._before.clear()

    def places(
        self, worked: ShapedColumns, logged: Logged, first_owner: int, shaper: Shaper
    ) -> Iterator[tuple[str, TableBatch]]:
        """(column, rows: their keys with SINCE and UNTIL) for each column that some rows lack."""
        family, batch = worked.family, worked.batches[0]
        if logged.moved:
            self._follow(worked, {first_owner + place for place in logged.moved})
        by_column: dict[str, set[int]] = {}
        for place, columns in logged.kept.items():
            for column in columns:
                by_column.setdefault(column, set()).add(first_owner + place)
        for column, owners in by_column.items():
            rows, node = only(batch, owners, family.key), shaper.structure.root.fields.get(column)
            if rows.rows and isinstance(node, ColumnShape):
                yield shaper.rules.rename.get(node.name, node.name), self._sought(family, rows)

    def _follow(self, worked: ShapedColumns, owners: set[int]) -> None:
        key, old = worked.family.key, worked.tombstones
        if old is None:
            return
        old_keys = dict(zip(old.owners, _keys(old, key)))
        batch = only(worked.batches[0], owners, key)
        for owner, now in zip(batch.owners, _keys(batch, key)):
            before = old_keys.get(owner - 1)
            if before is not None:
                since, older = self._before.get(before, (-1, []))
                self._before[now] = (owner - 1, [(before, since, owner), *older])

    def _sought(self, family: Family, rows: TableBatch) -> TableBatch:
        since, until = [-1] * rows.rows, list(rows.owners)
        if self._before:
            keys, owners = _keys(rows, family.key), list(rows.owners)
            for place, now in enumerate(list(keys)):
                if now in self._before:
                    since[place], older = self._before[now]
                    for before, begin, end in older:
                        keys.append(before)
                        owners.append(owners[place])
                        since.append(begin)
                        until.append(end)
            columns = {
                name: (rows.columns[name][0], [key[place] for key in keys]) for place, name in enumerate(family.key)
            }  # fmt: skip
            rows = TableBatch(rows.table, len(keys), owners, columns=columns)
        rows.columns[SINCE], rows.columns[UNTIL] = ("int64", since), ("int64", until)
        return rows


def _keys(batch: TableBatch, key: Sequence[str]) -> list[tuple[Any, ...]]:
    columns = [batch.columns[name][1] for name in key]
    return list(zip(*[data if isinstance(data, list) else data.to_pylist() for data in columns]))
