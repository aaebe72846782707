"""What a feed does with finished columns: rename, compute, hash, filter rows, add constants, in that order.

DuckDB evaluates expressions in memory over whole batches. A row for which one fails is rejected; the run goes on.
"""

from __future__ import annotations

import hmac
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from decimal import Context, Decimal
from typing import Any

import pyarrow as pa

from ..errors import DefinitionError
from ..expressions import columns_in, open_engine
from ..records.arrow import kind_of_arrow, to_arrow
from ..records.change_records import ChangeRecords, Logged
from ..records.layout import Family, TableLayout
from ..records.names import fold
from ..records.structure import ColumnShape
from ..records.value_limits import ValueLimits
from .batch import Reject, ShapedBatch, TableBatch
from .rules import ShapeRules
from .selection import only, without
from .unstorable import reject_unstorable

_EXACT = Context(prec=100)
_KINDS_OF_CONSTANTS: dict[type, Any] = {bool: "bool", int: "int64", float: "double", str: "text"}


@dataclass(frozen=True)
class ShapedColumns:
    """Batches that are ready to load.

    Attributes:
        filtered: how many records `filter` leaves out; `left`: their keys.
        rejects: their positions are those of `ShapedBatch.kept`.
        tombstones: key and order of records that say they are deleted. No batch holds them; `records` counts them.
    """

    family: Family
    batches: list[TableBatch]
    records: int
    filtered: int
    rejects: list[Reject]
    left: TableBatch | None = None
    tombstones: TableBatch | None = None


class ColumnWork:
    """Transforms one table's batches.

    Args:
        hash_key: the key of the hash; needed if the rules name a column to hash.
        value_limits: what the warehouse can hold; a record with something else is rejected.
    """

    def __init__(
        self,
        rules: ShapeRules,
        hash_key: Callable[[], bytes],
        *,
        value_limits: ValueLimits = ValueLimits(),  # noqa: B008 - frozen
    ) -> None:
        self._rules = rules
        self._value_limits = value_limits
        self._hash_key = hash_key() if rules.hash else b""
        self._engine: Any = None
        self._kinds: dict[tuple[str, str], ColumnShape] = {}

    def layout_of(self, family: Family) -> Family:
        """The family as it will be loaded.

        Raises:
            DefinitionError: a new name is taken, or a column does not exist.
        """
        if not self._rules.has_row_rules:
            return family
        tables = [self._table(layout) for layout in family.tables]
        renames = self.renames("")
        return replace(
            family,
            tables=tables,
            key=[renames.get(name, name) for name in family.key],
            newest_by=renames.get(family.newest_by or "", family.newest_by),
        )

    def work(self, shaped: ShapedBatch, gone: Callable[[Mapping[str, Any]], bool] | None = None) -> ShapedColumns:
        """Transform a batch; gone: whether a record, as it arrived, says that it is deleted."""
        rules, batches = self._rules, shaped.batches
        start = batches[0].owners[0] if shaped.records else 0
        logged = shaped.kept.logged if isinstance(shaped.kept, ChangeRecords) else None
        dead = {start + place for place, record in enumerate(shaped.kept) if gone(record)} if gone else set()
        if logged is not None:
            dead = {start + place for place, is_gone in enumerate(logged.gone) if is_gone}
            self._require_told(logged)
        bad: dict[int, Reject] = {}
        out: set[int] = set()
        if rules.has_row_rules:
            for batch in batches:
                self._columns(shaped, batch, bad, out)
        for batch in batches:
            reject_unstorable(self._value_limits, shaped, batch, bad)
        left = tombstones = None
        family = self.layout_of(shaped.family)
        # Of what is gone only the key matters: not what it brings, nor whether `filter` would have kept it.
        if logged is not None:
            # The warehouse may hold the row as it was before, when `filter` kept it.
            dead, out = dead | out, set()
        out -= dead
        bad = {owner: reject for owner, reject in bad.items() if owner not in dead}
        if dead:
            told = [*family.key, *([family.newest_by] if family.newest_by and family.newest_by not in family.key else [])]
            tombstones = only(batches[0], dead, told)
        if bad or out or dead:
            if out and batches:
                left = only(batches[0], out - set(bad), family.key)
            batches = [without(batch, out | set(bad) | dead) for batch in batches]
        self._count_digits(family, batches)
        filtered = len(out - set(bad))
        return ShapedColumns(
            family, batches, shaped.records - len(bad) - filtered, filtered, list(bad.values()), left, tombstones
        )

    def _require_told(self, logged: Logged) -> None:
        """Check that nothing is computed from a value that the change log does not contain.

        Raises:
            DefinitionError: something is.
        """
        untold = {name for columns in logged.kept.values() for name in columns}
        renames = self.renames("")
        for what, expression in [*self._rules.compute.items(), *([("keep", self._rules.keep)] if self._rules.keep else [])]:
            needed = [name for name in untold if renames.get(fold(name), fold(name)) in columns_in(expression)]
            if needed:
                raise DefinitionError(
                    "computing",
                    what,
                    found=f"it needs {needed[0]}, but the change log leaves out large values that did not change",
                    fix="let the log contain whole rows (alter table … replica identity full), and reload the table",
                    code="definition.column_not_in_log",
                )

    # One batch

    def _columns(self, shaped: ShapedBatch, batch: TableBatch, bad: dict[int, Reject], out: set[int]) -> None:
        layout = shaped.family.tables[shaped.family.place(batch.table)]
        within = layout.within
        renames = self.renames(within)
        columns = {renames.get(name, name): held for name, held in batch.columns.items()}
        shapes = {renames.get(c.name, c.name): c for c in layout.columns}
        start = shaped.batches[0].owners[0] if shaped.records else 0

        def failed(row: int, code: str, message: str, name: str) -> None:
            owner = batch.owners[row]
            place = owner - start
            bad.setdefault(owner, Reject(place, code, message, name, shaped.kept[place]))

        for name, expression in _inside(self._rules.compute, within).items():
            made = self._evaluate(expression, name, shapes, columns, batch.rows, failed)
            column = self._computed(layout, name, expression, shapes)
            shapes[name] = column
            columns[name] = (column.kind, made)
        for name in [n for n in columns if _named(self._rules.hash, within, n, renames)]:
            columns[name] = ("text", self._hashed(columns[name][1]))
            shapes[name] = ColumnShape(name, "text")
        if self._rules.keep and not within:
            mask = self._evaluate(self._rules.keep, "keep", shapes, columns, batch.rows, failed)
            keep = mask.to_pylist() if isinstance(mask, pa.Array | pa.ChunkedArray) else mask
            out.update(owner for owner, kept in zip(batch.owners, keep) if not kept)
        for name, value in _inside(self._rules.constants, within).items():
            columns[name] = (_KINDS_OF_CONSTANTS[type(value)], [value] * batch.rows)
        batch.columns = columns

    def _evaluate(
        self,
        expression: str,
        name: str,
        shapes: dict[str, ColumnShape],
        columns: dict[str, Any],
        rows: int,
        failed: Callable[[int, str, str, str], None],
    ) -> Any:
        """One value a row; of rows on which the expression fails, null and a word to `failed`."""
        named = self._known(expression, name, shapes)
        given = {}
        for column in named:
            kind, data = columns.get(column, (shapes[column].kind, [None] * rows))
            given[column] = to_arrow(shapes[column], kind, data)
        table = pa.table(given) if given else pa.table({"nothing": pa.nulls(rows, pa.int64())})
        return self._try(expression, name, shapes, table, 0, failed)

    def _try(self, expression: str, name: str, shapes: Any, table: pa.Table, first: int, failed: Any) -> Any:
        import duckdb

        try:
            return self._ask(expression, shapes, table)
        except duckdb.Error as error:
            if table.num_rows <= 1:
                message = str(error).split("\n")[0][:200]
                if table.num_rows:
                    failed(first, "value.expression_failed", f"{name}: {message}", name)
                return (
                    self._ask(expression, shapes, table.slice(0, 0))
                    .cast(self._type(expression, shapes))
                    .take(pa.array([None] * table.num_rows, pa.int64()))
                )
            half = table.num_rows // 2
            parts = [
                self._try(expression, name, shapes, table.slice(0, half), first, failed),
                self._try(expression, name, shapes, table.slice(half), first + half, failed),
            ]
            return pa.chunked_array([c for part in parts for c in _chunks(part)], self._type(expression, shapes))

    def _ask(self, expression: str, shapes: dict[str, ColumnShape], table: pa.Table) -> pa.ChunkedArray:
        if self._engine is None:
            self._engine = open_engine()
        self._engine.register("batch", table)
        try:
            json_columns = [c for c in table.column_names if c in shapes and shapes[c].kind == "json"]
            replaced = ", ".join(f'"{c}"::json as "{c}"' for c in json_columns)
            source = f"select * replace ({replaced}) from batch" if replaced else "select * from batch"
            made = self._engine.sql(f"select ({expression}\n) as made from ({source})").to_arrow_table().column(0)
        finally:
            self._engine.unregister("batch")
        found = kind_of_arrow(made.type)
        if found is None:
            raise DefinitionError(
                "computing",
                expression,
                found=f"its result is a {made.type}, which no column type can hold",
                fix="return a number, text, a boolean or a time; to_json(…) converts anything to text",
                code="definition.bad_expression",
            )
        return made.cast(found[1]) if found[1] is not None else made

    def _type(self, expression: str, shapes: dict[str, ColumnShape]) -> pa.DataType:
        named = columns_in(expression)
        empty = pa.table({c: to_arrow(shapes[c], shapes[c].kind, []) for c in named} or {"nothing": pa.array([], pa.int64())})
        return self._ask(expression, shapes, empty).type

    def _known(self, expression: str, name: str, shapes: dict[str, ColumnShape]) -> list[str]:
        named = columns_in(expression)
        for column in named:
            if column not in shapes:
                raise DefinitionError(
                    "computing",
                    name,
                    found=f'the expression names "{column}", which is not a column of this table',
                    fix=f"columns: {', '.join(list(shapes)[:60])}",
                    code="definition.unknown_column",
                )
        return named

    def _hashed(self, data: Any) -> Any:
        key = self._hash_key
        if not isinstance(data, pa.Array | pa.ChunkedArray):
            return [None if v is None else _digest(key, v) for v in data]
        # Each value once: what is hashed is often the same on many rows.
        encoded = data.combine_chunks() if isinstance(data, pa.ChunkedArray) else data
        encoded = encoded.dictionary_encode()
        distinct = pa.array([None if v is None else _digest(key, v) for v in encoded.dictionary.to_pylist()], pa.string())
        return distinct.take(encoded.indices)

    # Layouts

    def _table(self, layout: TableLayout) -> TableLayout:
        within = layout.within
        renames = self.renames(within)
        shapes: dict[str, ColumnShape] = {}
        for column in layout.columns:
            name = renames.get(column.name, column.name)
            if name in shapes:
                raise _taken(layout.name, name, "rename")
            shapes[name] = replace(column, name=name)
        for name, expression in _inside(self._rules.compute, within).items():
            if name in shapes:
                raise _taken(layout.name, name, "compute")
            if not layout.columns:
                continue  # nothing was met yet, so nothing can be computed
            self._known(expression, name, shapes)
            shapes[name] = self._computed(layout, name, expression, shapes)
        for name in shapes:
            if _named(self._rules.hash, within, name, renames):
                shapes[name] = ColumnShape(name, "text")
        for name, value in _inside(self._rules.constants, within).items():
            if name in shapes:
                raise _taken(layout.name, name, "constants")
            shapes[name] = ColumnShape(name, _KINDS_OF_CONSTANTS[type(value)])
        return replace(layout, columns=list(shapes.values()))

    def _computed(self, layout: TableLayout, name: str, expression: str, shapes: dict[str, ColumnShape]) -> ColumnShape:
        made = self._kinds.get((layout.name, name))
        found = kind_of_arrow(self._type(expression, shapes)) if made is None else None
        if made is None:
            assert found is not None
            made = self._kinds[layout.name, name] = ColumnShape(name, found[0])
        return made

    def _count_digits(self, family: Family, batches: Sequence[TableBatch]) -> None:
        """Decimals out of expressions: as many digits as their type has."""
        if not self._rules.compute:
            return
        for batch in batches:
            for column in family.tables[family.place(batch.table)].columns:
                held = batch.columns.get(column.name)
                if column.kind == "decimal" and held is not None and not isinstance(held[1], list):
                    kind = held[1].type
                    own = self._kinds.get((batch.table, column.name), column)
                    own.whole, own.fraction = max(own.whole, kind.precision - kind.scale), max(own.fraction, kind.scale)

    def renames(self, within: str) -> dict[str, str]:
        """{name: new name} of the columns within an object; '' for the table itself."""
        return _inside(self._rules.rename, within)


def _inside(rules: dict[str, Any], within: str) -> dict[str, Any]:
    """The entries for one table, without its name before them."""
    before = f"{within}." if within else ""
    found = {}
    for name, value in rules.items():
        if name.startswith(before) and "." not in name[len(before) :]:
            found[name[len(before) :]] = value
    return found


def _named(names: frozenset[str], within: str, name: str, renames: dict[str, str]) -> bool:
    """Whether a column is named, by its name in the warehouse or the one before renaming."""
    before = f"{within}." if within else ""
    old = next((o for o, n in renames.items() if n == name), name)
    return before + name in names or before + old in names


def _chunks(values: Any) -> list[pa.Array]:
    chunks: list[pa.Array] = values.chunks if isinstance(values, pa.ChunkedArray) else [values]
    return chunks


def _digest(key: bytes, value: Any) -> str:
    return hmac.digest(key, _text(value).encode(), "sha256").hex()


def _text(value: Any) -> str:
    if isinstance(value, Decimal):  # without zeros at the end, which are of its batch and not of its value
        return format(value.normalize(_EXACT), "f") if value else "0"
    return value if isinstance(value, str) else repr(value) if isinstance(value, float) else str(value)


def _taken(table: str, name: str, key: str) -> DefinitionError:
    return DefinitionError(
        "laying out the columns of",
        table,
        found=f'`{key}` adds a column "{name}", but there is one of that name already',
        fix=f"use another name, or leave the other one out (`exclude_columns: [{name}]`)",
        code="definition.column_name_taken",
    )
