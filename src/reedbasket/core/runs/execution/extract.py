"""A feed's records as files for other programs: one Parquet file for each table, and a manifest that describes them.

The run loads into a DuckDB file of its own, whose tables become the files. It reads from the beginning, and does not touch the cursors of
the feed's own warehouse.
"""

from __future__ import annotations

import json
from contextlib import closing
from datetime import datetime
from pathlib import Path
from typing import Any

from ...extracts import MANIFEST, digest
from ...spec.times import format_time
from ...spec.warehouse import Warehouse
from ...warehouses import Warehouse as OpenWarehouse
from ...warehouses.duckdb.connect import connect_scratch
from ...warehouses.warehouse import TableInfo
from ..planning.order import ResolvedRun

VERSION = 1
_SCRATCH = ".loading.duckdb"
# How children tell their parents. A field of a record cannot begin with `_rb_`, so in the files they have no underscore in front; the
# loader's other columns tell of one load, and stay behind.
_LINKS = {"_rb_parent": "rb_parent", "_rb_ordinal": "rb_ordinal", "_rb_row_key": "rb_row_key"}
_JSON_TYPES: tuple[tuple[tuple[str, ...], dict[str, Any]], ...] = (
    (("BIGINT", "INTEGER", "HUGEINT", "SMALLINT", "UBIGINT"), {"type": "integer"}),
    (("DOUBLE", "FLOAT", "DECIMAL"), {"type": "number"}),
    (("BOOLEAN",), {"type": "boolean"}),
    (("TIMESTAMP",), {"type": "string", "format": "date-time"}),
    (("DATE",), {"type": "string", "format": "date"}),
    (("UUID",), {"type": "string", "format": "uuid"}),
    (("BLOB",), {"type": "string", "contentEncoding": "base64"}),
    (("JSON",), {}),
)


def into_folder(order: ResolvedRun, folder: Path) -> ResolvedRun:
    """The same run, loading into the extract's folder instead of its warehouse. The ledger shows its loads under the folder's name."""
    folder.mkdir(parents=True, exist_ok=True)
    scratch = Warehouse.model_validate({"warehouse": folder.name, "type": "duckdb", "path": str(folder / _SCRATCH)})
    return order.model_copy(update={"warehouse": scratch, "others": []})


def write_extract(order: ResolvedRun, warehouse: OpenWarehouse, folder: Path, ended: datetime) -> dict[str, Any]:
    """Write the files from what was loaded, then the manifest, and remove what was loaded. Returns the manifest."""
    tables = []
    found = warehouse.tables()
    with closing(connect_scratch(folder / ".spill")) as connection:
        connection.execute(f"attach {_text(folder / _SCRATCH)} as w (read_only)")
        for table in found:
            tables.append(_table(connection, order, warehouse, table, folder))
    manifest = {
        "extract": VERSION,
        "feed": order.feed,
        "feed_version": order.feed_version,
        "source": order.source,
        "run": order.run,
        "began": format_time(order.started),
        "ended": format_time(ended),
        "tables": tables,
    }
    (folder / MANIFEST).write_text(json.dumps(manifest, indent=1, ensure_ascii=False) + "\n", "utf-8")
    for left in folder.glob(".*"):
        _remove(left)
    return manifest


def _table(connection: Any, order: ResolvedRun, warehouse: OpenWarehouse, table: TableInfo, folder: Path) -> dict[str, Any]:
    columns = [
        (name, _LINKS.get(name, name), kind) for name, kind in table.columns if name in _LINKS or not name.startswith("_rb_")
    ]
    file = folder / f"{table.name}.parquet"
    listed = ", ".join(f'"{name}" as "{shown}"' for name, shown, _ in columns)
    connection.execute(f'copy (select {listed} from w."{table.name}") to {_text(file)} (format parquet, compression zstd)')
    state = warehouse.state(order.feed, table.source_table) if table.source_table else None
    top = state is not None and state.structure.name == table.name
    cursor = state.cursor if state is not None and top else None
    key = (
        list(state.key)
        if state is not None and top
        else [shown for _, shown, _ in columns if shown in ("rb_parent", "rb_ordinal")]
    )
    return {
        "name": table.name,
        "source_table": table.source_table,
        "file": file.name,
        "rows": table.rows,
        "bytes": file.stat().st_size,
        "sha256": digest(file),
        "key": key,
        "cursor": {"kind": cursor.kind, "value": cursor.shown} if cursor is not None else None,
        "schema": {
            "$schema": "https://json-schema.org/draft/2020-12/schema",
            "type": "object",
            "properties": {shown: _schema(kind) for _, shown, kind in columns},
            "required": key,
        },
    }


def _schema(kind: str) -> dict[str, Any]:
    made = next((dict(schema) for words, schema in _JSON_TYPES if kind.upper().startswith(words)), {"type": "string"})
    return made | {"type": [made["type"], "null"]} if "type" in made else made


def _text(path: Path) -> str:
    """As an SQL string; of a file's name that is ours."""
    return "'" + str(path).replace("'", "''") + "'"


def _remove(left: Path) -> None:
    import shutil

    if left.is_dir():
        shutil.rmtree(left, ignore_errors=True)
    else:
        left.unlink(missing_ok=True)
