"""Decompressing files: gzip, zstd, bz2 and xz by the ending of the name, and the members of a zip. Each has a limit on its decompressed
size.
"""

from __future__ import annotations

import bz2
import io
import lzma
import tempfile
import zipfile
import zlib
from collections.abc import Callable, Iterator
from fnmatch import fnmatchcase
from typing import Any, cast

import pyarrow as pa
from isal import isal_zlib

from .problems import file_problem

CHUNK = 1024 * 1024
# Text packs to a fortieth at the most by our samples, runs of one value to a thousandth: what goes beyond both is there to fill disks.
_MOST_TIMES = 400
_AT_LEAST = 64 * 1024 * 1024
# isal's own says of itself that it is an instance.
_BROKEN: tuple[type[Exception], ...] = (cast(type[Exception], isal_zlib.error), OSError, lzma.LZMAError, EOFError)
_PACKED = {".gz": "gzip", ".zst": "zstd", ".bz2": "bz2", ".xz": "xz"}


def plain_name(path: str) -> str:
    """The name without the ending of the compression."""
    for end in _PACKED:
        if path.lower().endswith(end):
            return path[: -len(end)]
    return path


def is_zip(path: str) -> bool:
    """Whether the name ends like a zip's."""
    return path.lower().endswith(".zip")


class SizeLimit:
    """Counts the decompressed bytes of a file.

    Args:
        most: bytes; None for what is plausible for its own size.
    """

    def __init__(self, path: str, size: int, most: int | None) -> None:
        self._path = path
        self._most = most if most is not None else max(_AT_LEAST, size * _MOST_TIMES)
        self._held = 0

    def add(self, count: int) -> None:
        """Count bytes.

        Raises:
            FileProblem: the limit is passed.
        """
        self._held += count
        if self._held > self._most:
            raise file_problem(
                "file.too_large",
                f"{self._path} has more than {self._most:,} bytes when it is decompressed",
                "set `format: {max_unpacked: 50 GB}` if that is intended",
            )


def opened(content: Any, path: str, bounded: SizeLimit) -> Iterator[bytes]:
    """The decompressed bytes of one file, about a megabyte at a time.

    Raises:
        FileProblem: the file is cut off, or is not in that compression.
    """
    end = next((end for end in _PACKED if path.lower().endswith(end)), None)
    if end is None:
        while part := content.read(CHUNK):
            bounded.add(len(part))
            yield part
        return
    kind = _PACKED[end]
    try:
        for part in _unpacked(content, kind):
            bounded.add(len(part))
            yield part
    except _BROKEN as error:
        if isinstance(error, OSError) and error.errno is not None:
            raise
        raise file_problem(
            "file.damaged", f"{path} cannot be unpacked as {kind}: {error}", "replace it with the whole file"
        ) from None


def _unpacked(content: Any, kind: str) -> Iterator[bytes]:
    """Several packed parts one behind the other are one file."""
    if kind == "zstd":
        with pa.CompressedInputStream(pa.PythonFile(content, mode="r"), kind) as unpacked:
            while part := unpacked.read(CHUNK):
                yield part
        return
    makers: dict[str, Callable[[], Any]] = {
        "gzip": lambda: isal_zlib.decompressobj(wbits=31),
        "bz2": bz2.BZ2Decompressor,
        "xz": lzma.LZMADecompressor,
    }
    make = makers[kind]
    unpacker, begun = make(), False
    held = io.BytesIO()
    while part := content.read(CHUNK // 4):
        while part:
            begun = True
            for piece in _pieces(unpacker, part, kind):
                if not held.tell() and len(piece) >= CHUNK:
                    yield piece
                    continue
                held.write(piece)
                if held.tell() >= CHUNK:
                    yield held.getvalue()
                    held = io.BytesIO()
            part = unpacker.unused_data if unpacker.eof else b""
            if unpacker.eof and (part := part.lstrip(b"\0") if kind == "gzip" else part):
                unpacker = make()
    if held.tell():
        yield held.getvalue()
    if begun and not unpacker.eof:
        raise EOFError("it ends in the middle")
    if not begun:
        raise EOFError("it is empty")


def _pieces(unpacker: Any, part: bytes, kind: str) -> Iterator[bytes]:
    """What a part becomes, never more than a few megabytes at a time."""
    yield unpacker.decompress(part, CHUNK * 2)
    if kind == "gzip":
        while unpacker.unconsumed_tail and not unpacker.eof:
            yield unpacker.decompress(unpacker.unconsumed_tail, CHUNK * 2)
        return
    while not unpacker.eof and not unpacker.needs_input:
        yield unpacker.decompress(b"", CHUNK * 2)


def members(content: Any, path: str, pattern: str | None) -> Iterator[tuple[str, Any]]:
    """(name, bytes) of the members of a zip, by name, without folders and without what the pattern does not match."""
    held = tempfile.TemporaryFile() if not content.seekable() else content  # noqa: SIM115 - closed below
    try:
        if held is not content:
            while part := content.read(CHUNK):
                held.write(part)
            held.seek(0)
        try:
            archive = zipfile.ZipFile(held)
        except zipfile.BadZipFile as error:
            raise file_problem(
                "file.damaged", f"{path} cannot be opened as zip: {error}", "replace it with the whole file"
            ) from None
        with archive:
            names = [info for info in archive.infolist() if not info.is_dir()]
            for info in sorted(names, key=lambda one: one.filename):
                if pattern is not None and not fnmatchcase(info.filename, pattern):
                    continue
                if info.flag_bits & 1:
                    raise file_problem(
                        "file.damaged",
                        f"{info.filename} in {path} is protected by a password",
                        "replace it with one without a password",
                    )
                try:
                    with archive.open(info) as member:
                        yield info.filename, member
                except (zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError) as error:
                    words = f"{info.filename} in {path} cannot be unpacked: {error}"
                    raise file_problem("file.damaged", words, "replace it with the whole file") from None
    finally:
        if held is not content:
            held.close()
