"""Copying files from one store to another: as a whole or not at all, several at once, and checked after writing."""

from __future__ import annotations

import hashlib
import tempfile
import threading
from collections import deque
from collections.abc import Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import closing
from datetime import UTC, datetime
from typing import Any

from ...errors import SourceError
from ...spec.times import format_time
from .problems import FileMissing, FileProblem, file_problem
from .store import IN_MEMORY, FileInfo, Store, is_inside

_CHUNK = 1024 * 1024
Copied = dict[str, Any]


def copied(
    source: Store, target: Store, files: Sequence[FileInfo], under: str, stop: threading.Event
) -> Iterator[tuple[FileInfo, Copied | FileProblem | FileMissing]]:
    """(each file, what its row says, or why it was not copied), in order.

    Raises:
        SourceError: a store failed as a whole.
    """
    concurrency = min(source.concurrency, target.concurrency)
    before = f"{under}/" if under else ""
    waiting = iter(files)
    going: deque[tuple[FileInfo, Future[Copied | FileProblem | FileMissing]]] = deque()
    with ThreadPoolExecutor(concurrency, thread_name_prefix="copy") as pool:
        try:
            while True:
                while len(going) < 4 * concurrency and (info := next(waiting, None)) is not None:
                    going.append((info, pool.submit(_copy, source, target, info, before + info.path, stop)))
                if not going:
                    return
                done, future = going.popleft()
                yield done, future.result()
        finally:
            pool.shutdown(wait=False, cancel_futures=True)


def _copy(source: Store, target: Store, info: FileInfo, path: str, stop: threading.Event) -> Copied | FileProblem | FileMissing:
    if stop.is_set():
        raise SourceError("copying", info.path, found="the run was stopped")
    if not is_inside(path):
        words = f"{path!r} would lead outside the folder that it is copied to"
        return file_problem("file.unreadable", words, "rename the file at its source")
    digest = hashlib.sha256()
    with tempfile.SpooledTemporaryFile(max_size=IN_MEMORY) as held:
        try:
            with closing(source.open(info.path)) as content:
                while part := content.read(_CHUNK):
                    digest.update(part)
                    held.write(part)
        except FileMissing as gone:
            return gone
        size = held.tell()
        if info.size >= 0 and size != info.size:
            words = f"{info.path} has {size:,} bytes, but was listed with {info.size:,}"
            return file_problem("file.changed", words, "run again once it no longer changes")
        held.seek(0)
        target.put(path, held, size)
        there = target.info(path)
        if there is None or there.size != size:
            found = "nothing" if there is None else f"{there.size:,} bytes"
            words = f"{path} in {target.where}: {found} after {size:,} were written"
            return file_problem("file.damaged", words, "find out what else writes there")
        held.seek(0)
        if not _same(target, path, held):
            words = f"{path} in {target.where} differs from what was written"
            return file_problem("file.damaged", words, "find out what else writes there")
    return {
        "path": info.path,
        "copied_to": path,
        "size": size,
        "sha256": digest.hexdigest(),
        "modified": format_time(info.modified) if info.modified else None,
        "copied_at": format_time(datetime.now(UTC)),
    }


def _same(store: Store, path: str, held: Any) -> bool:
    """Whether the copy reads as it was written: byte by byte, which costs less than another hash."""
    with closing(store.open(path)) as content:
        while part := content.read(_CHUNK):
            if held.read(len(part)) != part:
                return False
    return not held.read(1)
