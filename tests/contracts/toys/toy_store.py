"""A toy store of files, `crate://NAME/folder`: all of them stand in one file, NAME.crate, as JSON. One module, known by an entry point."""

from __future__ import annotations

import base64
import io
import json
from collections.abc import Callable, Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import IO
from urllib.parse import urlsplit

from typing_extensions import override

from reedbasket.core.allowed_paths import Places
from reedbasket.core.kinds import StoreKind
from reedbasket.core.sources.files.problems import file_gone
from reedbasket.core.sources.files.store import FileInfo, Store, StoreErrors
from reedbasket.core.spec.file_source import FileSource


class CrateStore(Store):
    """See `sources.files.store.Store`."""

    grows = False
    concurrency = 1

    def __init__(self, crate: Path, folder: str) -> None:
        self._crate = crate
        self._folder = folder
        self.where = f"{crate}/{folder}"
        self._errors = StoreErrors(self.where)

    def _held(self) -> dict[str, list[str]]:
        """{path: [content, time]}."""
        try:
            held: dict[str, list[str]] = json.loads(self._crate.read_text()) if self._crate.exists() else {}
        except ValueError as error:
            raise self._errors.failed("opening", str(error)) from None
        return held

    @override
    def list(self, under: str) -> Iterator[FileInfo]:
        within = f"{self._folder}/{under}/" if under else f"{self._folder}/"
        for path in sorted(self._held()):
            info = self.info(path.removeprefix(f"{self._folder}/")) if path.startswith(within) else None
            if info is not None:
                yield info

    @override
    def info(self, path: str) -> FileInfo | None:
        found = self._held().get(f"{self._folder}/{path}")
        return FileInfo(path, len(base64.b64decode(found[0])), datetime.fromisoformat(found[1])) if found else None

    @override
    def open(self, path: str) -> IO[bytes]:
        found = self._held().get(f"{self._folder}/{path}")
        if found is None:
            raise file_gone(path, self.where)
        return io.BytesIO(base64.b64decode(found[0]))

    @override
    def put(self, path: str, content: IO[bytes], size: int) -> None:
        held = self._held()
        held[f"{self._folder}/{path}"] = [base64.b64encode(content.read()).decode(), datetime.now(UTC).isoformat()]
        part = self._crate.with_suffix(".part")
        part.write_text(json.dumps(held))
        part.replace(self._crate)

    @override
    def close(self) -> None:
        """Nothing is held open."""


def open_from(source: FileSource, reveal: Callable[[str], str], places: Places) -> CrateStore:
    """See `stores.open.open_store`."""
    at = urlsplit(source.url or "")
    return CrateStore(places.file(f"{at.netloc}.crate"), at.path.strip("/"))


KIND = StoreKind(__name__, keys=(), port=None)
