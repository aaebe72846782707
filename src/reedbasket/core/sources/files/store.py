"""What a run needs of a file store, whatever its kind."""

from __future__ import annotations

import hashlib
import io
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, closing
from datetime import datetime
from typing import IO, Any, NamedTuple, Protocol

from ...errors import CredentialsRefused, SourceError, SourceForbidden, SourceTimedOut
from ..source_errors import SourceErrors


class FileInfo(NamedTuple):
    """One file as a store lists it.

    Attributes:
        path: below the source's own folder, with /.
        size: bytes; -1 if the store does not say.
        modified: aware, UTC; None if the store does not say.
        tag: by which the store identifies the content (ETag); '' for none.
    """

    path: str
    size: int
    modified: datetime | None
    tag: str = ""

    def same_as(self, other: FileInfo) -> bool:
        """Whether nothing shows that the content differs: the tags if both have one, otherwise size and time."""
        if self.tag and other.tag:
            return self.tag == other.tag and self.size == other.size
        return self.size == other.size and self.modified == other.modified


# What a file is called while it is written: no pattern of a run is to take it.
PART = ".rb-part"


def is_inside(path: str) -> bool:
    """Whether a path stays below the folder it is appended to. File names from a source cannot be trusted."""
    parts = path.replace("\\", "/").split("/")
    return bool(path) and not any(part in ("", ".", "..") for part in parts) and "\0" not in path


class Store(Protocol):
    """One source's files. Not for two threads at once, unless `concurrency` says so.

    Attributes:
        where: the store as people know it, without secrets.
        grows: a file may be visible while it is still being written.
        concurrency: how many threads may read or write at the same time.
    """

    where: str
    grows: bool
    # How many threads may read from it, or write to it, at the same time.
    concurrency: int

    def list(self, under: str) -> Iterator[FileInfo]:
        """Every file below a folder, one page at a time if the store has pages.

        Args:
            under: the folder; '' for all. A folder that does not exist has no files.

        Raises:
            SourceError: the store cannot be reached, or refuses.
        """

    def info(self, path: str) -> FileInfo | None:
        """One file as it is now; None if it does not exist."""

    def open(self, path: str) -> IO[bytes] | Body:
        """Open a file to be read from its beginning; to be closed by the caller.

        Returns:
            Its bytes; a Body says which version was opened.

        Raises:
            FileMissing: it is not there any more.
            SourceError: the store cannot be reached, or refuses.
        """

    def put(self, path: str, content: IO[bytes], size: int) -> None:
        """Write a file as a whole: it appears under its name once it is complete.

        Args:
            path: below the source's own folder, with /.
            content: read from its present position.
            size: bytes.

        Raises:
            SourceError: the store cannot be written to.
        """

    def close(self) -> None:
        """Close the connections; reads in progress end."""


def with_checksum(store: Store, info: FileInfo) -> FileInfo:
    """The file with a checksum of its content.

    Args:
        store: that has it; nothing is read if it knows a checksum already.
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
    """The bytes that a server sends, with its library's errors translated.

    Attributes:
        info: the file as it was when it was opened, which may differ from the listing; None if that is not known.
    """

    def __init__(self, body: Any, told: Callable[[], AbstractContextManager[None]], info: FileInfo | None = None) -> None:
        self._body = body
        self._told = told
        self.info = info

    def readable(self) -> bool:
        """True, as for every file opened for reading."""
        return True

    def read(self, size: int = -1) -> bytes:
        """That many bytes, or all that are left.

        Raises:
            SourceError: the store failed.
        """
        with self._told():
            return self._body.read(None if size < 0 else size)  # type: ignore[no-any-return]

    def readinto(self, room: Any) -> int:
        """Fill a buffer with what there is.

        Raises:
            SourceError: the store failed.
        """
        found = self.read(len(room))
        room[: len(found)] = found
        return len(found)

    def close(self) -> None:
        """Close it, read or not."""
        if not self.closed:
            self._body.close()
        super().close()


class StoreErrors(SourceErrors):
    """The errors of a file store."""

    failed_code = "source.store_failed"

    def timed_out(self, doing: str) -> SourceError:
        """The store took too long."""
        return SourceTimedOut(doing, self.on, found="no answer in time", fix="check that it is up, then run again")

    def refused(self, doing: str, words: str) -> SourceError:
        """The store does not accept the credentials."""
        return CredentialsRefused(
            doing, self.on, found=words, fix="check `user` and the secret of the source; set it again with `reed secret set`"
        )

    def forbidden(self, doing: str, words: str) -> SourceError:
        """The store accepts the credentials, but does not allow this."""
        fix = "the user may not read this: have the right granted, or leave it out"
        return SourceForbidden(doing, self.on, found=words, fix=fix)

    def no_credentials(self, doing: str) -> SourceError:
        """No credentials are given."""
        found = "the server needs a password or a key, and none is given"
        fix = "add `password: {secret: NAME}` or `key: {secret: NAME}` to the source"
        return CredentialsRefused(doing, self.on, found=found, fix=fix, code="source.no_credentials")

    def other_host(self, doing: str, words: str, fix: str) -> SourceError:
        """The server's identity is not the expected one."""
        return CredentialsRefused(doing, self.on, found=words, fix=fix, code="source.host_not_trusted")

    def read_only(self) -> SourceError:
        """Files over HTTP cannot be written."""
        return SourceError(
            "copying into", self.on, found="files over HTTP can only be read", fix="copy to a folder, s3, sftp or ftp",
            code="source.read_only",
        )  # fmt: skip
