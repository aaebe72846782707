"""Files as the source: a folder in which each file holds a few of the world's records, in every format and packing."""

from __future__ import annotations

import bz2
import csv
import gzip
import io
import json
import lzma
import os
import zipfile
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

import openpyxl
import pyarrow as pa
from hypothesis import strategies as st
from pyarrow import feather, parquet

from tests.support.stores import depot, ftp, s3, sftp
from tests.truth.scene import Scene, Struck
from tests.truth.serving import CSV_COLUMNS
from tests.truth.world import Row, World

SLICE = 4  # records a file
# Of a plain web server nobody can tell which files there are.
SERVERS: dict[str, Callable[[Path], Any]] = {"sftp": sftp, "ftp": ftp, "bucket": s3}
PACKED: dict[str, Callable[[bytes], bytes]] = {
    "": lambda data: data,
    ".gz": lambda data: gzip.compress(data, mtime=0),
    ".zst": lambda data: pa.compress(data, codec="zstd", asbytes=True),
    ".bz2": bz2.compress,
    ".xz": lzma.compress,
}


@dataclass(frozen=True)
class Declaration:
    """changed: what becomes of changed files, by files."""

    store: str
    form: str
    packing: str
    by: str
    write: str
    changed: str
    deletes: str
    writing: str
    warehouses: tuple[str, ...]

    @property
    def lines(self) -> bool:
        return self.form in ("ndjson", "csv")


@st.composite
def declarations(draw: Any) -> Declaration:
    by = draw(st.sampled_from(["files", "files", "full", "compare"]))
    writes = {"files": ["upsert", "upsert", "append", "versions"], "compare": ["upsert", "mirror", "versions"]}
    write = draw(st.sampled_from(writes.get(by, ["upsert", "append", "replace", "mirror", "versions"])))
    changed = {"upsert": ["upsert", "replace"], "append": ["replace"], "versions": ["upsert"]}
    form = draw(st.sampled_from(["ndjson", "ndjson", "csv", "csv", "json", "parquet", "arrow", "xlsx"]))
    return Declaration(
        store=draw(st.sampled_from(["folder", "folder", "folder", *SERVERS])),
        form=form,
        packing=draw(st.sampled_from(["", "", ".gz", ".zst", ".bz2", ".xz", ".zip"]))
        if form not in ("parquet", "arrow", "xlsx")
        else "",
        by=by,
        write=write,
        changed=draw(st.sampled_from(changed[write])) if by == "files" else "",
        deletes=draw(st.sampled_from(["hard", "hard", "soft"])),
        writing="z_micro",
        warehouses=draw(
            st.sampled_from([("sqlite",), ("duckdb",), ("postgres",), ("mysql",), ("sqlite", "duckdb"), ("duckdb", "mysql")])
        ),
    )


def faults_of(declared: Declaration) -> list[str]:
    return [name for name, fault in FAULTS.items() if fault.fits(declared)]


def compatible(faults: list[tuple[str, int]]) -> list[tuple[str, int]]:
    return faults


class FilesScene(Scene):
    declared: Declaration

    def __init__(self, declared: Declaration, seed: int, folder: Path, place: str) -> None:
        """place: of the store, in a definition's words; it shows the folder."""
        super().__init__(declared, World(declared.writing, "nested" if declared.form in ("ndjson", "json") else "texts", seed))
        self._place = place
        self._folder = folder / "in"
        self._folder.mkdir()
        self._ticks = 1_780_000_000
        self._held: dict[int, dict[int, Row]] = {}
        self._struck: list[tuple[FileFault, int]] = []
        self._spoiled: set[int] = set()
        # What a run met spoiled. A bucket says what its objects hold: the same once more is nothing new.
        self._met: dict[int, bytes] = {}

    def text(self) -> str:
        d = self.declared
        by = f"by: files, changed: {d.changed}, stable_for: 0s" if d.by == "files" else f"by: {d.by}"
        said = f"changes: {{{by}}}, write: {d.write}"
        if d.write not in ("append", "replace"):
            said += f", deletes: {d.deletes}"
        if d.write != "append":
            said += ", primary_key: id"
        form = {"json": ", format: {type: json, records: items}"}.get(d.form, "")
        return f"""source: truth
type: files
{self._place}
---
feed: truth
from: truth
into: [{", ".join(f"in_{name}" for name in d.warehouses)}]
tables: [{{table: things, files: "part-*.{d.form}{d.packing}"{form}, {said}}}]
"""

    # The files

    def path(self, number: int) -> Path:
        return self._folder / f"part-{number:03}.{self.declared.form}{self.declared.packing}"

    def put(self, path: Path, data: bytes) -> None:
        """Whole at once, and later than all before."""
        self._ticks += 10
        part = path.with_name("." + path.name)
        part.write_bytes(data)
        os.utime(part, (self._ticks, self._ticks))
        os.replace(part, path)
        if self.declared.store == "bucket":
            bucket = depot(self._place.partition("endpoint: ")[2].split("\n")[0])
            bucket.put_object(Bucket="depot", Key=f"in/{self._folder.parent.name}/in/{path.name}", Body=data)

    def records(self, number: int) -> list[dict[str, Any]]:
        return [self.world.record(n) for n in sorted(self.world.rows) if n // SLICE == number]

    def packed(self, data: bytes, number: int) -> bytes:
        if self.declared.packing != ".zip":
            return PACKED[self.declared.packing](data)
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr(f"part-{number:03}.{self.declared.form}", data)
        return out.getvalue()

    def written(self, records: list[dict[str, Any]]) -> bytes:
        form = self.declared.form
        if form == "ndjson":
            return b"".join(json.dumps(r, ensure_ascii=False).encode() + b"\n" for r in records)
        if form == "json":
            return json.dumps({"items": records}, ensure_ascii=False).encode()
        if form == "csv":
            out = io.StringIO()
            writer = csv.writer(out, lineterminator="\n")
            writer.writerow(CSV_COLUMNS)
            writer.writerows([["" if r.get(c) is None else r[c] for c in CSV_COLUMNS] for r in records])
            return out.getvalue().encode()
        kinds = {"id": pa.int64()}
        table = pa.table({c: pa.array([r.get(c) for r in records], kinds.get(c, pa.string())) for c in CSV_COLUMNS})
        if form == "xlsx":
            return _sheet(records)
        sink = pa.BufferOutputStream()
        if form == "parquet":
            parquet.write_table(table, sink, row_group_size=2)
        else:
            feather.write_feather(table, sink, compression="uncompressed")
        return bytes(sink.getvalue().to_pybytes())

    def moved(self) -> None:
        slices: dict[int, dict[int, Row]] = {}
        for number, row in self.world.rows.items():
            slices.setdefault(number // SLICE, {})[number] = row
        for number in set(slices) | set(self._held):
            rows = slices.get(number, {})
            if {n: id(r) for n, r in rows.items()} != {n: id(r) for n, r in self._held.get(number, {}).items()}:
                self.rewrite(number)
        self._held = slices

    def rewrite(self, number: int) -> None:
        self.put(self.path(number), self.packed(self.written(self.records(number)), number))

    # Faults

    def quiet(self) -> None:
        for path in self._folder.iterdir():
            if path.is_dir():
                path.rmdir()
        for number in self._spoiled:
            self.rewrite(number)
        self._spoiled, self._struck = set(), []
        super().quiet()

    def strike(self, faults: tuple[tuple[str, int], ...], now: datetime) -> None:
        before, self._met = self._met, {}
        for name, place in faults:
            fault = FAULTS[name]
            numbers = sorted(self._held)
            # Two faults of one file would hide each other.
            if not numbers or numbers[place % len(numbers)] in self._spoiled:
                continue
            number = numbers[place % len(numbers)]
            if fault.meanwhile or self._spoil(fault, number, before.get(number)):
                self._struck.append((fault, number))

    def _spoil(self, fault: FileFault, number: int, before: bytes | None) -> bool:
        plain, altered = self.written(self.records(number)), set(self.altered)
        data = fault.do(self, number, plain)
        if data is None:
            return False
        if self.declared.store == "bucket" and data == before:
            self._altered = altered
            return False
        self._met[number] = data
        self._spoiled.add(number)
        if data:
            self.put(self.path(number), data)
        return True

    def meanwhile(self) -> None:
        for fault, number in self._struck:
            if fault.meanwhile:
                for n in [n for n in self.world.rows if n // SLICE == number][:1]:
                    self.world.change(sorted(self.world.rows).index(n))
                self.world.insert(1)
                self.moved()

    def struck(self) -> list[Struck]:
        return [Struck(fault.name, fault.harmless) for fault, _ in self._struck]

    def unseen(self, before: set[int]) -> set[int]:
        """Rows that a file holds no more are seen to have gone; by `upsert` none are."""
        d = self.declared
        if d.by == "files" and d.changed == "upsert":
            return before - set(self.world.rows)
        return set()

    def perhaps_there(self, before: set[int]) -> set[int]:
        d = self.declared
        gone = set(self.world.past) - set(self.world.rows)
        # A line that nobody could read may be the row that is missing there.
        unread = {number for fault, number in self._struck if fault.name in ("a line that is none", "a line too short")}
        found = {n for n in gone & before if unread and (d.by != "files" or n // SLICE in unread)}
        return found | (gone - before if d.by == "files" and d.changed == "upsert" else set())


def _sheet(records: list[dict[str, Any]]) -> bytes:
    book, out = openpyxl.Workbook(), io.BytesIO()
    for line in [CSV_COLUMNS, *([r.get(c) for c in CSV_COLUMNS] for r in records)]:
        book.active.append(line)
    book.save(out)
    return out.getvalue()


@dataclass(frozen=True)
class FileFault:
    """do: what the file holds then; None where there is nothing to strike, b'' where it has been done. meanwhile: once it is read."""

    name: str
    do: Callable[[FilesScene, int, bytes], bytes | None]
    fits: Callable[[Declaration], bool] = lambda declared: True
    harmless: bool = False
    meanwhile: bool = False


def _text(change: Callable[[bytes], bytes | None]) -> Callable[[FilesScene, int, bytes], bytes | None]:
    """A change of what is packed."""

    def do(scene: FilesScene, number: int, plain: bytes) -> bytes | None:
        changed = change(plain)
        return None if changed is None else scene.packed(changed, number)

    return do


def _cut_packed(scene: FilesScene, number: int, plain: bytes) -> bytes | None:
    whole = scene.packed(plain, number)
    return whole[: len(whole) - max(5, len(whole) // 4)]


def _cut_tail(scene: FilesScene, number: int, plain: bytes) -> bytes | None:
    return scene.packed(plain, number)[:-3]


def _cut_line(plain: bytes) -> bytes | None:
    """In the middle of the last line, where it cannot be whole."""
    head, _, last = plain.rstrip(b"\n").rpartition(b"\n")
    at = last.find(b",")
    return head + b"\n" + last[: at + 1] if head and at > 0 else None


def _cut_document(plain: bytes) -> bytes | None:
    return plain[: len(plain) * 2 // 3]


def _spoil_line(line: bytes) -> Callable[[FilesScene, int, bytes], bytes | None]:
    """One more line that is no record."""

    def do(scene: FilesScene, number: int, plain: bytes) -> bytes | None:
        return scene.packed(plain + line, number) if plain.strip() else None

    return do


def _other_key(scene: FilesScene, number: int, plain: bytes) -> bytes | None:
    """The first record lost its key."""
    records = scene.records(number)
    if not records:
        return None
    scene.altered.add(records[0]["id"])
    records[0]["id"] = None
    return scene.packed(scene.written(records), number)


def _bad_bytes(scene: FilesScene, number: int, plain: bytes) -> bytes | None:
    """In the first record."""
    if b'"name": "' not in plain:
        return None
    scene.altered.add(scene.records(number)[0]["id"])
    return scene.packed(plain.replace(b'"name": "', b'"name": "\xff\xfe', 1), number)


def _directory(scene: FilesScene, number: int, plain: bytes) -> bytes:
    (scene.path(number).with_name(f"part-999.{scene.declared.form}{scene.declared.packing}")).mkdir()
    return scene.packed(plain, number)


def _reordered(plain: bytes) -> bytes:
    rows = list(csv.reader(io.StringIO(plain.decode(), newline="")))
    out = io.StringIO()
    csv.writer(out, lineterminator="\n").writerows([row[::-1] for row in rows])
    return out.getvalue().encode()


def _more_columns(plain: bytes) -> bytes:
    head, _, rest = plain.partition(b"\n")
    return head + b",extra\n" + b"".join(line + b",\n" for line in rest.split(b"\n") if line)


def _members(scene: FilesScene, number: int, plain: bytes) -> bytes:
    half = plain.find(b"\n") + 1
    if scene.declared.packing == ".zip":
        return scene.packed(plain, number)
    return PACKED[scene.declared.packing](plain[:half]) + PACKED[scene.declared.packing](plain[half:])


_HTML = b"<!DOCTYPE html>\n<html><body><p>Please, sign in</p></body></html>\n"
_FAULTS = [
    FileFault("packed and cut", _cut_packed, lambda d: d.packing != ""),
    FileFault("packed, without its end", _cut_tail, lambda d: d.packing != ""),
    FileFault("cut in its last line", _text(_cut_line), lambda d: d.lines),
    FileFault("cut in the middle", _text(_cut_document), lambda d: d.form == "json"),
    FileFault("cut, in columns", _text(_cut_document), lambda d: d.form in ("parquet", "arrow", "xlsx")),
    FileFault("a page of HTML", _text(lambda plain: _HTML)),
    FileFault("a line that is none", _spoil_line(b'{"id": \n'), lambda d: d.form == "ndjson"),
    FileFault("a line too short", _spoil_line(b"1001,x\n"), lambda d: d.form == "csv"),
    FileFault("a record without key", _other_key, lambda d: d.write != "append"),
    FileFault("no UTF-8", _bad_bytes, lambda d: d.form in ("ndjson", "json")),
    FileFault("changes while they are read", lambda scene, number, plain: None, meanwhile=True),
    # unusual, and right
    FileFault("touched", lambda scene, number, plain: scene.packed(plain, number), harmless=True),
    FileFault("a folder in between", _directory, harmless=True),
    FileFault("byte-order mark", _text(lambda plain: b"\xef\xbb\xbf" + plain), lambda d: d.lines or d.form == "json", harmless=True),
    FileFault("lines of Windows", _text(lambda plain: plain.replace(b"\n", b"\r\n")), lambda d: d.lines, harmless=True),
    FileFault("no end of the last line", _text(lambda plain: plain.rstrip(b"\n")), lambda d: d.lines, harmless=True),
    FileFault("columns in another order", _text(_reordered), lambda d: d.form == "csv", harmless=True),
    FileFault("a column more, of nothing", _text(_more_columns), lambda d: d.form == "csv", harmless=True),
    FileFault("several members", _members, lambda d: d.lines and d.packing != "", harmless=True),
]  # fmt: skip
FAULTS = {fault.name: fault for fault in _FAULTS}
assert len(FAULTS) == len(_FAULTS)
