"""Files over SSH, by paramiko. The server's host key is always checked."""

from __future__ import annotations

import io
import posixpath
import stat
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from datetime import UTC, datetime
from typing import IO, Any
from urllib.parse import urlsplit

import paramiko
from typing_extensions import override

from .....allowed_paths import Places
from .....spec.file_source import FileSource
from ...problems import file_gone
from ...store import IN_MEMORY, PART, FileInfo, Store, StoreErrors
from ..open import password_of

_SECONDS = 20.0
_CHUNK = 256 * 1024


class SftpStore(Store):
    """Files on an SSH server."""

    grows = True
    concurrency = 1

    def __init__(self, source: FileSource, password: str | None, key: str | None) -> None:
        """Connect.

        Args:
            key: a private key as text.

        Raises:
            SourceError: the connection failed.
        """
        parts = urlsplit(source.url or "")
        self._host, port = parts.hostname or "", parts.port or 22
        self._folder = parts.path.rstrip("/") or "."
        self.where = source.url or ""
        self._errors = StoreErrors(self.where)
        self._ssh = paramiko.SSHClient()
        self._ssh.set_missing_host_key_policy(paramiko.RejectPolicy())
        name = self._host if port == 22 else f"[{self._host}]:{port}"
        if source.host_key is not None:
            self._ssh.get_host_keys().add(name, *self._host_key(source.host_key))
        else:
            self._ssh.load_system_host_keys()
        with self._told("signing in at"):
            self._ssh.connect(
                self._host, port, source.user, password, pkey=self._private(key, password) if key else None,
                timeout=_SECONDS, banner_timeout=_SECONDS, auth_timeout=_SECONDS, allow_agent=False, look_for_keys=False,
            )  # fmt: skip
            self._sftp = self._ssh.open_sftp()
            channel = self._sftp.get_channel()
            if channel is not None:
                channel.settimeout(60.0)

    def _host_key(self, text: str) -> tuple[str, Any]:
        kind, _, data = text.partition(" ")
        try:
            return kind, paramiko.PKey.from_type_string(kind, paramiko.util.b(_base64(data.split(" ")[0])))
        except Exception as error:
            raise self._errors.failed(
                "reading `host_key` of", str(error), "paste a line of ssh-keyscan, from `ssh-` on"
            ) from error

    def _private(self, text: str, password: str | None) -> Any:
        for kind in (paramiko.Ed25519Key, paramiko.ECDSAKey, paramiko.RSAKey):
            with suppress(paramiko.SSHException, ValueError):
                return kind.from_private_key(io.StringIO(text), password)
        raise self._errors.failed(
            "reading `key` of",
            "it is not a private key in OpenSSH's format",
            "set the whole content of the key's file as the secret",
        )

    @override
    def list(self, under: str) -> Iterator[FileInfo]:
        if not under:
            with self._told("listing"):
                self._sftp.stat(self._folder)
        yield from self._below(f"{under}/" if under else "")

    def _below(self, before: str) -> Iterator[FileInfo]:
        with self._told(f"listing {before or 'all'} of"):
            try:
                found = sorted(self._sftp.listdir_iter(self._at(before)), key=lambda entry: entry.filename)
            except FileNotFoundError:
                return
        for entry in found:
            path = before + entry.filename
            if stat.S_ISDIR(entry.st_mode or 0):
                yield from self._below(path + "/")
            elif stat.S_ISREG(entry.st_mode or 0) and not path.endswith(PART):
                yield _info(path, entry)

    @override
    def info(self, path: str) -> FileInfo | None:
        with self._told(f"looking at {path} in"):
            try:
                return _info(path, self._sftp.stat(self._at(path)))
            except FileNotFoundError:
                return None

    @override
    def open(self, path: str) -> IO[bytes]:
        # Read to its end at once: paramiko keeps what it asks for ahead in memory, however much that is.
        held: Any = tempfile.SpooledTemporaryFile(max_size=IN_MEMORY)  # noqa: SIM115 - whoever reads it closes it
        with self._told(f"opening {path} in"):
            try:
                self._sftp.getfo(self._at(path), held, max_concurrent_prefetch_requests=64)
            except FileNotFoundError:
                held.close()
                raise file_gone(path, self.where) from None
        held.seek(0)
        return held  # type: ignore[no-any-return]

    @override
    def put(self, path: str, content: IO[bytes], size: int) -> None:
        with self._told(f"writing {path} to"):
            self._make(posixpath.dirname(path))
            whole = self._at(path)
            with self._sftp.open(whole + PART, "wb") as written:
                written.set_pipelined(True)
                while part := content.read(_CHUNK):
                    written.write(part)
            self._sftp.posix_rename(whole + PART, whole)

    def _make(self, folder: str) -> None:
        made = ""
        for part in folder.split("/") if folder else ():
            made = f"{made}/{part}" if made else part
            with suppress(OSError):
                self._sftp.mkdir(self._at(made))

    def _at(self, path: str) -> str:
        return posixpath.join(self._folder, path) if path else self._folder

    @override
    def close(self) -> None:
        self._ssh.close()

    @contextmanager
    def _told(self, doing: str) -> Iterator[None]:
        try:
            yield
        except paramiko.BadHostKeyException:
            fix = (
                "ask its administrator whether it has a new key, and set that as `host_key`; "
                "otherwise somebody may be intercepting the connection"
            )
            raise self._errors.other_host(doing, "the server presented a different key from the one expected", fix) from None
        except paramiko.AuthenticationException as error:
            raise self._errors.refused(doing, str(error)) from None
        except paramiko.SSHException as error:
            words = str(error)
            if "not found in known_hosts" in words:
                fix = "set `host_key` in the source to a line of ssh-keyscan, or add it to known_hosts"
                raise self._errors.other_host(doing, "the server's host key is not known", fix) from None
            if "No authentication methods" in words:
                raise self._errors.no_credentials(doing) from None
            raise self._errors.unreachable(doing, words) from None
        except TimeoutError:
            raise self._errors.timed_out(doing) from None
        except FileNotFoundError:
            raise self._errors.failed(doing, "there is no such folder", "fix `url` of the source") from None
        except PermissionError as error:
            raise self._errors.forbidden(doing, str(error)) from None
        except (OSError, EOFError) as error:
            raise self._errors.unreachable(doing, str(error)) from None


def _info(path: str, told: Any) -> FileInfo:
    return FileInfo(path, told.st_size or 0, datetime.fromtimestamp(told.st_mtime or 0, UTC))


def _base64(text: str) -> bytes:
    import base64

    return base64.b64decode(text)


def open_from(source: FileSource, reveal: Callable[[str], str], places: Places) -> SftpStore:
    """See `stores.open.open_store`."""
    return SftpStore(source, password_of(source, reveal), reveal(source.key.secret) if source.key else None)
