"""A folder on this machine."""

from __future__ import annotations

import errno
import os
import shutil
from collections.abc import Callable, Iterator
from contextlib import suppress
from datetime import UTC, datetime
from operator import attrgetter
from pathlib import Path
from typing import IO

from typing_extensions import override

from .....allowed_paths import Places
from .....spec.file_source import FileSource
from ...problems import file_gone
from ...store import PART, FileInfo, Store, StoreErrors, is_inside


class FolderStore(Store):
    """Files in a folder on this machine, or mounted there."""

    grows = True
    concurrency = 8

    def __init__(self, folder: Path, places: Places) -> None:
        """Prepare.

        Args:
            places: where links in the folder may lead.
        """
        self._folder = folder
        self._places = places
        self.where = str(folder)
        self._errors = StoreErrors(self.where)

    @override
    def list(self, under: str) -> Iterator[FileInfo]:
        if not self._folder.is_dir():
            raise self._errors.failed("listing", "there is no such folder", "correct the source's `path`, or create the folder")
        self._places.require(self._folder / under)
        yield from self._below(f"{under}/" if under else "")

    def _below(self, before: str) -> Iterator[FileInfo]:
        # scandir knows what is a folder without a look at it: 20,000 files take a fifth of what Path.rglob does.
        try:
            found = sorted(os.scandir(self._folder / before), key=attrgetter("name"))
        except FileNotFoundError:
            return
        except OSError as error:
            raise self._errors.refused(f"listing {before or 'all'} of", str(error.strerror)) from error
        for entry in found:
            path = before + entry.name
            try:
                folder = entry.is_dir()
                told = None if folder or path.endswith(PART) else entry.stat()
            except OSError as error:
                if error.errno in (errno.ENOENT, errno.ELOOP):
                    continue  # it went away, or is a link to nothing but itself
                raise self._errors.refused(f"looking at {path} in", str(error.strerror)) from error
            if told is not None:
                yield FileInfo(path, told.st_size, datetime.fromtimestamp(told.st_mtime, UTC))
            elif folder and not self._leads_back(before, entry):
                yield from self._below(path + "/")

    def _leads_back(self, before: str, entry: os.DirEntry[str]) -> bool:
        """To where we come from, and on without end."""
        if not entry.is_symlink():
            return False
        here = os.path.realpath(self._folder / before)
        return f"{here}/".startswith(f"{os.path.realpath(entry.path)}/")

    @override
    def info(self, path: str) -> FileInfo | None:
        try:
            told = (self._folder / path).stat()
        except (FileNotFoundError, NotADirectoryError):
            return None
        return FileInfo(path, told.st_size, datetime.fromtimestamp(told.st_mtime, UTC))

    @override
    def open(self, path: str) -> IO[bytes]:
        try:
            return open(self._places.require(self._folder / path), "rb")
        except FileNotFoundError:
            raise file_gone(path, self.where) from None
        except OSError as error:
            raise self._errors.refused(f"opening {path} in", str(error.strerror)) from error

    @override
    def put(self, path: str, content: IO[bytes], size: int) -> None:
        if not is_inside(path):
            words = "the path leads outside the folder"
            raise self._errors.failed(f"writing {path} to", words, "find out who named the file like that at the source")
        whole = self._places.require(self._folder / path)
        part = whole.with_name(whole.name + PART)
        try:
            whole.parent.mkdir(parents=True, exist_ok=True)
            with open(part, "wb") as written:
                shutil.copyfileobj(content, written, 1024 * 1024)
            os.replace(part, whole)
        except OSError as error:
            with suppress(OSError):
                part.unlink()
            raise self._errors.failed(
                f"writing {path} to",
                str(error.strerror or error),
                "free space, or grant the service's user the right to write there",
            ) from error

    @override
    def close(self) -> None:
        """Does nothing: nothing is held open."""


def open_from(source: FileSource, reveal: Callable[[str], str], places: Places) -> FolderStore:
    """See `stores.open.open_store`."""
    assert source.path is not None
    return FolderStore(places.file(source.path), places)
