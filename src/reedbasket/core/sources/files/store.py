"""What a run needs of a store of files, whatever its kind."""

from __future__ import annotations

import hashlib
import io
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, closing
from datetime import datetime
from typing import IO, Any, NamedTuple, Protocol

from ...errors import SourceError, SourceForbidden, SourceRefused, SourceTimedOut
from ..source_errors import SourceErrors


class FileInfo(NamedTuple):
    """One file as a store lists it.

    Attributes:
        path: below the source's own folder, with /.
        size: bytes; -1 where the store does not say.
        modified: aware, UTC; None where the store does not say.
        tag: what the store knows its content by (ETag); '' for nothing.
    """

    path: str
    size: int
    modified: datetime | None
    tag: str = ""

    def same_as(self, other: FileInfo) -> bool:
        """Whether nothing says that the content is another: tags where both have one, else size and time."""
        if self.tag and other.tag:
            return self.tag == other.tag and self.size == other.size
        return self.size == other.size and self.modified == other.modified


# What a file is called while it is written: no pattern of a run is to take it.
PART = ".rb-part"


def is_inside(path: str) -> bool:
    """Whether a path stays below the folder it is put behind. What a source calls a file is nothing to rely on."""
    parts = path.replace("\\", "/").split("/")
    return bool(path) and not any(part in ("", ".", "..") for part in parts) and "\0" not in path


class Store(Protocol):
    """One source's files. Not for two threads at once, unless `concurrency` says so.

    Attributes:
        where: the store as people know it, without secrets.
        grows: a file may be seen while it is still being written.
        concurrency: how many threads may read from it, or write to it, at the same time.
    """

    where: str
    grows: bool
    # How many threads may read from it, or write to it, at the same time.
    concurrency: int

    def list(self, under: str) -> Iterator[FileInfo]:
        """Every file below a folder, a page at a time where the store has pages.

        Args:
            under: the folder; '' for all. One that is not there holds no files.

        Raises:
            SourceError: the store cannot be reached, or refuses.
        """

    def info(self, path: str) -> FileInfo | None:
        """One file as it is now; None where it is not there."""

    def open(self, path: str) -> IO[bytes] | Body:
        """Open a file to be read from its beginning; to be closed by the caller.

        Returns:
            Its bytes; a Body says which version was opened.

        Raises:
            FileGone: it is not there any more.
            SourceError: the store cannot be reached, or refuses.
        """

    def put(self, path: str, content: IO[bytes], size: int) -> None:
        """Write a file whole: it is there under its name once all of it is, and never half.

        Args:
            path: below the source's own folder, with /.
            content: read from where it stands.
            size: bytes.

        Raises:
            SourceError: the store cannot be written to.
        """

    def close(self) -> None:
        """Let go of connections; what is being read ends."""


def with_checksum(store: Store, info: FileInfo) -> FileInfo:
    """The file as told by its content.

    Args:
        store: that has it; nothing is read where it knows its content already.
        info: as listed.

    Returns:
        The same, with its SHA-256 as its tag.

    Raises:
        SourceError: it cannot be read.
    """
    if info.tag:
        return info
    found = hashlib.sha256()
    with closing(store.open(info.path)) as content:
        while part := content.read(1 << 20):
            found.update(part)
    return info._replace(tag=f"sha256:{found.hexdigest()}")


# A file up to this size waits in memory until it is read, where a store sends it whole; a larger one in a file.
IN_MEMORY = 8 * 1024 * 1024


class Body(io.RawIOBase):
    """What a server sends, its library's errors told as ours.

    Attributes:
        info: the file as it was when it was opened; None where that is not told. It may be another than was listed.
    """

    def __init__(self, body: Any, told: Callable[[], AbstractContextManager[None]], info: FileInfo | None = None) -> None:
        self._body = body
        self._told = told
        self.info = info

    def readable(self) -> bool:
        """As every file that is read."""
        return True

    def read(self, size: int = -1) -> bytes:
        """So many bytes, or all that is left. Raises SourceError."""
        with self._told():
            return self._body.read(None if size < 0 else size)  # type: ignore[no-any-return]

    def readinto(self, room: Any) -> int:
        """Fill a buffer as far as there is something. Raises SourceError."""
        found = self.read(len(room))
        room[: len(found)] = found
        return len(found)

    def close(self) -> None:
        """Let go of it, read or not."""
        if not self.closed:
            self._body.close()
        super().close()


class StoreErrors(SourceErrors):
    """What goes wrong at a store of files."""

    failed_code = "source.store_failed"

    def timed_out(self, doing: str) -> SourceError:
        """The store took too long."""
        return SourceTimedOut(doing, self.on, found="no answer in time", fix="check that it is up, then run again")

    def refused(self, doing: str, words: str) -> SourceError:
        """The store does not know who asks."""
        return SourceRefused(
            doing, self.on, found=words, fix="check `user` and the secret of the source; set it again with `reed secret set`"
        )

    def forbidden(self, doing: str, words: str) -> SourceError:
        """The store knows who asks, who may not."""
        fix = "whoever we are there may not read this: have the right given, or leave it out"
        return SourceForbidden(doing, self.on, found=words, fix=fix)

    def no_credentials(self, doing: str) -> SourceError:
        """Nothing is said by which the store could know who asks."""
        found = "neither a password nor a key is given, and the server wants one"
        fix = "say `password: {secret: NAME}` or `key: {secret: NAME}` in the source"
        return SourceRefused(doing, self.on, found=found, fix=fix, code="source.no_credentials")

    def other_host(self, doing: str, words: str, fix: str) -> SourceError:
        """The server does not show what it is to be known by."""
        return SourceRefused(doing, self.on, found=words, fix=fix, code="source.host_not_trusted")

    def read_only(self) -> SourceError:
        """Files over HTTP cannot be written."""
        return SourceError(
            "copying into", self.on, found="over HTTP files are only read", fix="copy to a folder, s3, sftp or ftp",
            code="source.read_only",
        )  # fmt: skip
