"""extract write, extract load, extract list: extract once, keep it as open files, load it anywhere."""

from __future__ import annotations

import argparse
import shutil
import sys
import tempfile
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ..client import Client, connect
from . import show
from .runs import WAIT_SECONDS, ended

if TYPE_CHECKING:
    from .. import wire

_ACTIVE = ("queued", "running")
PIPE = "-"


def list_all(options: argparse.Namespace) -> int:
    """`reed extracts`."""
    found = connect(options.url, options.token).extracts.list()
    if options.json:
        return show.as_json(found)
    rows = [
        (
            one["name"],
            one["feed"],
            len(one["tables"]),
            show.count(sum(table["rows"] for table in one["tables"])),
            show.size(sum(table["bytes"] for table in one["tables"])),
            show.ago(one["ended"]),
        )
        for one in found
    ]
    show.table(
        ["extract", "feed", "tables", "rows", "size", "written"],
        rows,
        empty="No extracts yet.",
        right=["tables", "rows", "size"],
    )
    return 0


def remove(options: argparse.Namespace) -> int:
    """`reed extract remove`."""
    connect(options.url, options.token).extracts.remove(options.name)
    print(f"Removed {options.name}.")
    return 0


def write(options: argparse.Namespace) -> int:
    """`reed extract write`: run a feed into an extract, and copy its files here."""
    client = connect(options.url, options.token)
    run = client.feeds.run(options.feed, wait_seconds=WAIT_SECONDS, extract=True).wait()
    if run.outcome != "succeeded":
        return ended(run.facts, options.json)
    name = f"{options.feed}-{run.id}"
    extract = next(one for one in client.extracts.list() if one["name"] == name)
    if options.folder == PIPE:
        code = _out(client, extract, options.table)
    else:
        code = _into(client, extract, Path(options.folder), options.json)
    client.extracts.remove(name)
    return code


def _into(client: Client, extract: wire.Extract, folder: Path, as_json: bool) -> int:
    from ..core.extracts import MANIFEST, read_manifest

    folder.mkdir(parents=True, exist_ok=True)
    for file in [*(table["file"] for table in extract["tables"]), MANIFEST]:
        with open(folder / file, "wb") as out:
            for part in client.extracts.file(extract["name"], file):
                out.write(part)
    manifest = read_manifest(folder)
    if as_json:
        return show.as_json(manifest)
    rows = [
        (t["name"], show.count(t["rows"]), show.size(t["bytes"]), ", ".join(t["key"]), _until(t)) for t in manifest["tables"]
    ]
    show.table(["table", "rows", "size", "key", "until"], rows, empty="No tables.", right=["rows", "size"])
    print(f"Written to {folder}: Parquet files and {MANIFEST}. Load it with `reed extract load {folder} --into WAREHOUSE`.")
    return 0


def _until(table: Any) -> str:
    return table["cursor"]["value"] if table["cursor"] else ""


def _out(client: Client, extract: wire.Extract, table: str | None) -> int:
    """One table as an Arrow stream on standard output."""
    import pyarrow as pa
    import pyarrow.parquet as pq

    names = [one["name"] for one in extract["tables"]]
    if table is None and len(names) == 1:
        table = names[0]
    if table not in names:
        print(f"reed: a pipe carries only one table: --table {' or '.join(names)}  [command.incomplete]", file=sys.stderr)
        return 2
    with tempfile.TemporaryFile() as held:
        for part in client.extracts.file(
            extract["name"], next(one["file"] for one in extract["tables"] if one["name"] == table)
        ):
            held.write(part)
        held.seek(0)
        with pq.ParquetFile(held) as file, pa.ipc.new_stream(sys.stdout.buffer, file.schema_arrow) as out:
            for batch in file.iter_batches():
                out.write_batch(batch)
    return 0


def load(options: argparse.Namespace) -> int:
    """`reed extract load`: put an extract's files where the service reads them, and apply a feed that loads them."""
    from ..client.find import data_folder_of
    from ..core.allowed_paths import FILES
    from ..core.extracts import as_basket, feed_of, read_manifest

    client = connect(options.url, options.token)
    folder = given = _from_pipe(options) if options.folder == PIPE else Path(options.folder)
    try:
        manifest = read_manifest(folder)
        if (data := data_folder_of(client)) is not None:
            # Definitions reach no folder but the service's own for files, and those that it was told to allow.
            folder = data.resolve() / FILES / "extracts" / feed_of(manifest)
            shutil.copytree(given, folder, dirs_exist_ok=True)
        name, text = as_basket(manifest, folder, into=options.into, prefix=options.prefix)
        client.definitions.apply({f"{name}.yaml": text})
        run = client.feeds.run(name, wait_seconds=WAIT_SECONDS).wait()
        return ended(run.facts, options.json)
    finally:
        if options.folder == PIPE:
            shutil.rmtree(given, ignore_errors=True)
            if folder != given:
                shutil.rmtree(folder, ignore_errors=True)


def _from_pipe(options: argparse.Namespace) -> Path:
    """An Arrow stream from standard input, as an extract of one table."""
    import json

    import pyarrow as pa
    import pyarrow.parquet as pq

    from ..core.extracts import MANIFEST, digest

    if not options.table:
        raise SystemExit("reed: name the table with --table NAME  [command.incomplete]")
    folder = Path(tempfile.mkdtemp(prefix="reed-extract-"))
    file, rows = folder / f"{options.table}.parquet", 0
    with pa.ipc.open_stream(sys.stdin.buffer) as stream, pq.ParquetWriter(file, stream.schema, compression="zstd") as out:
        for batch in stream:
            out.write_batch(batch)
            rows += batch.num_rows
    table = {"name": options.table, "file": file.name, "rows": rows, "sha256": digest(file), "key": options.key}
    (folder / MANIFEST).write_text(json.dumps({"extract": 1, "feed": options.table, "tables": [table]}), "utf-8")
    return folder
