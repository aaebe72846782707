"""Ways to commit, and what is to be seen of a warehouse after one: for commits that are killed."""

from __future__ import annotations

from typing import Any

from reedbasket.contracts.place import Loader, columns_of
from tests.support.warehouses import Place

OLD = [{"id": i, "v": 0, "kids": [{"c": i}]} for i in range(6)]
NEW = [{"id": i, "v": 1, "late": "x", "kids": [{"c": i, "deep": [{"d": 1}]}, {"c": 9}]} for i in (0, 2, 2, 7)]
WIDER = [{"id": i, "v": 0.5, "kids": [{"c": "text"}]} for i in (1, 3, 8)]
FLAT = [{"id": i, "v": i} for i in (1, 1, 5)]
KEYLESS: dict[str, Any] = {"key": []}
# (what was loaded before, how; what is loaded now, how)
WAYS: dict[str, tuple[tuple[list[Any], dict[str, Any]] | None, tuple[list[Any], dict[str, Any]]]] = {
    "a first load": (None, (OLD, {"write": "upsert"})),
    "a first load that appends": (None, (OLD, {"write": "append"})),
    "a first history": (None, (NEW, {"write": "versions"})),
    "append": ((OLD, {"write": "append"}), (NEW, {"write": "append"})),
    "upsert": ((OLD, {"write": "upsert"}), (NEW, {"write": "upsert"})),
    "merge, wider": ((OLD, {"write": "upsert"}), (WIDER, {"write": "upsert"})),
    "mirror": ((OLD, {"write": "mirror"}), (NEW, {"write": "mirror"})),
    "mirror that marks": ((OLD, {"write": "mirror", "deletes": "soft"}), (NEW, {"write": "mirror", "deletes": "soft"})),
    "versions": ((OLD, {"write": "versions"}), (NEW, {"write": "versions"})),
    "replace": ((OLD, {"write": "replace"}), (NEW, {"write": "replace"})),
    "replace with fewer tables": ((OLD, {"write": "replace"}), (FLAT, {"write": "replace"})),
    "replace without a key": ((OLD, {"write": "replace", **KEYLESS}), (NEW, {"write": "replace", **KEYLESS})),
    "append, then merge": ((OLD + NEW, {"write": "append"}), (WIDER, {"write": "upsert"})),
    "merge, then append": ((OLD, {"write": "upsert"}), (NEW, {"write": "append"})),
    "merge, then history": ((OLD, {"write": "upsert"}), (NEW, {"write": "versions"})),
    "history, then merge": ((OLD, {"write": "versions"}), (NEW, {"write": "upsert"})),
    "merge, then replace": ((OLD, {"write": "upsert"}), (NEW, {"write": "replace"})),
}


def load(place: Place, how: tuple[list[Any], dict[str, Any]]) -> None:
    Loader(place, **how[1]).load(how[0], batch=3)


def version(place: Place) -> int:
    """Of the state. Asking for it finishes what a killed commit had still to do."""
    warehouse = place.open()
    state = warehouse.state("test", "things")
    warehouse.close()
    return state.version if state else 0


def tables(place: Place) -> list[str]:
    """All of them, in order. An earlier table that waits for its end is not there for anybody."""
    found = "select name from sqlite_master where type = 'table' order by name"
    if place.maria:
        found = "select table_name from information_schema.tables where table_schema = database() order by 1"
    return [name for (name,) in place.ask(found) if not name.startswith(("_rb_next_load", "_rb_earlier"))]


def seen(place: Place) -> dict[str, list[Any]]:
    """What a reader sees of the feed's tables, without what the load noted in them."""
    found = {}
    for table in tables(place):
        if not table.startswith("_rb_"):
            columns = [
                c
                for c in columns_of(place, table)
                if c not in ("_rb_ledger_line", "_rb_loaded_at", "_rb_valid_from", "_rb_valid_until", "_rb_deleted_at")
            ]
            listed = ", ".join(f'"{c}"' for c in sorted(columns) if c != "_rb_row_key" and not c.startswith("_rb_parent"))
            found[table] = sorted(place.ask(f'select {listed} from "{table}"'), key=repr)
    return {table: sorted(tuple(_plain(v) for v in row if v is not None) for row in rows) for table, rows in found.items()}


def _plain(value: Any) -> str:
    """Alike before and after its column was made wider."""
    return str(float(value)) if str(value).replace(".", "", 1).isdigit() else str(value)


def everything(place: Place) -> dict[str, Any]:
    """All that a later run goes by: tables, columns, rows, indexes, and what the service tables hold, but for ids and moments."""
    found: dict[str, Any] = {}
    for table in tables(place):
        left_out = {
            "_rb_ledger_line",
            "_rb_loaded_at",
            "_rb_valid_from",
            "load",
            "at",
            "started",
            "ended",
            "structure",
            "_rb_row_key",
            "_rb_parent",
        }
        columns = [c for c in columns_of(place, table) if c not in left_out and not c.endswith("_seconds")]
        listed = ", ".join(
            f'"{c}"' + (" is null" if c in ("_rb_valid_until", "_rb_deleted_at") else "") for c in sorted(columns)
        )
        found[table] = (columns, sorted(place.ask(f'select {listed} from "{table}"'), key=repr))
    indexes = "select name, tbl_name from sqlite_master where type = 'index' order by name"
    if place.maria:
        indexes = """select table_name, index_name, non_unique, column_name, sub_part from information_schema.statistics
            where table_schema = database() and left(table_name, 11) <> '_rb_earlier' order by 1, 2, seq_in_index"""
    found["indexes"] = place.ask(indexes)
    return found
