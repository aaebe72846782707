"""Files over FTP, plain or with TLS, by Python's own ftplib."""

from __future__ import annotations

import ftplib
import posixpath
import re
import ssl
import tempfile
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager, suppress
from datetime import UTC, datetime
from typing import IO, Any
from urllib.parse import SplitResult, urlsplit

from typing_extensions import override

from .....allowed_paths import Places
from .....spec.file_source import FileSource
from ...problems import file_gone
from ...store import IN_MEMORY, PART, FileInfo, Store, StoreErrors
from ..open import authority_of, password_of

_SECONDS = 30.0
# As `ls -l` writes it, which nearly all servers do: kind and rights, links, owner, group, size, time, name.
_UNIX = re.compile(r"([a-z-])[rwxsStTl+.@-]{9,10}\s+\d+\s+\S+\s+\S+\s+(\d+)\s+\w{3}\s+\d{1,2}\s+[\d:]{4,5}\s(.+?)(?: -> .*)?")


class FtpStore(Store):
    """Files on an FTP server; its times from MLSD, or from MDTM and LIST."""

    grows = True
    concurrency = 1

    def __init__(self, source: FileSource, password: str | None, trust: str | None) -> None:
        """Connect.

        Args:
            trust: a file with the certificates to trust.

        Raises:
            SourceError: the connection failed.
        """
        parts = urlsplit(source.url or "")
        self._folder = parts.path.rstrip("/")
        self.where = source.url or ""
        self._errors = StoreErrors(self.where)
        self._source, self._password, self._trust = source, password, trust
        with self._told("signing in at"):
            self._ftp = self._sign_in(parts)
            if self._folder:
                self._ftp.cwd(self._folder)
            # Paths are told from the top of the server.
            self._folder = self._ftp.pwd().rstrip("/")

    def _sign_in(self, parts: SplitResult) -> ftplib.FTP:
        source, made = self._source, ftplib.FTP(timeout=_SECONDS, encoding="utf-8")
        if parts.scheme == "ftps":
            verified = source.tls.mode.startswith("verify")
            context = ssl.create_default_context(cafile=self._trust) if verified else ssl._create_unverified_context()
            context.check_hostname = source.tls.mode == "verify-full"
            made = ftplib.FTP_TLS(timeout=_SECONDS, encoding="utf-8", context=context)
        made.connect(parts.hostname or "", parts.port or 21)
        made.login(source.user or "anonymous", self._password or "")
        if isinstance(made, ftplib.FTP_TLS):
            made.prot_p()
        made.voidcmd("TYPE I")
        return made

    @contextmanager
    def _transfer(self) -> Iterator[None]:
        """A transfer. One that breaks off leaves its connection unusable, so the next request uses another one."""
        try:
            yield
        except ftplib.Error:
            raise
        except BaseException:
            self._ftp.close()
            with suppress(OSError, EOFError, ftplib.Error):
                self._ftp = self._sign_in(urlsplit(self._source.url or ""))
            raise

    @override
    def list(self, under: str) -> Iterator[FileInfo]:
        yield from self._below(f"{under}/" if under else "")

    def _below(self, before: str) -> Iterator[FileInfo]:
        with self._told(f"listing {before or 'all'} of"):
            try:
                found = sorted(self._entries(before))
            except ftplib.error_perm as error:
                if before and str(error).startswith("550"):
                    return
                raise
        for name, facts in found:
            path = before + name
            if facts.get("type") == "dir":
                yield from self._below(path + "/")
            elif facts.get("type") == "file" and not path.endswith(PART):
                yield FileInfo(path, int(facts.get("size", 0)), _time(facts.get("modify")))

    def _entries(self, before: str) -> Iterable[tuple[str, dict[str, str]]]:
        """(name, facts) of one folder."""
        try:
            return list(self._ftp.mlsd(self._at(before), facts=["type", "size", "modify"]))
        except ftplib.error_perm as error:
            if not str(error).startswith("50"):
                raise
            return self._listed(before)

    def _listed(self, before: str) -> Iterator[tuple[str, dict[str, str]]]:
        """A listing from a server without MLSD (RFC 3659): LIST gives the names, SIZE and MDTM the rest, as far as the server has them."""
        lines: list[str] = []
        self._ftp.retrlines(f"LIST {self._at(before)}".rstrip(), lines.append)
        for line in lines:
            found = _UNIX.fullmatch(line)
            if found is None:
                if line.strip() and not line.startswith("total "):
                    words = f"a line of its listing that is not in Unix format: {line[:120]}"
                    raise self._errors.failed("listing", words, "use a server with MLSD (RFC 3659), or another store")
                continue
            kind, size, name = found.groups()
            facts = {"type": {"d": "dir", "-": "file"}.get(kind, "other"), "size": size}
            if kind == "-":
                with suppress(ftplib.error_perm):
                    facts["size"] = str(self._ftp.size(self._at(before + name)) or size)
                with suppress(ftplib.error_perm):
                    facts["modify"] = self._ftp.sendcmd(f"MDTM {self._at(before + name)}").split(" ", 1)[1]
            yield name, facts

    @override
    def info(self, path: str) -> FileInfo | None:
        with self._told(f"looking at {path} in"):
            try:
                size = self._ftp.size(self._at(path)) or 0
                modified = self._ftp.sendcmd(f"MDTM {self._at(path)}").split(" ", 1)[1]
            except ftplib.error_perm as error:
                if str(error).startswith("550"):
                    return None
                raise
            return FileInfo(path, size, _time(modified))

    @override
    def open(self, path: str) -> IO[bytes]:
        # Read to its end before anything else is asked: one connection sends one file at a time.
        held: Any = tempfile.SpooledTemporaryFile(max_size=IN_MEMORY)  # noqa: SIM115 - whoever reads it closes it
        with self._told(f"opening {path} in"):
            try:
                with self._transfer():
                    self._ftp.retrbinary(f"RETR {self._at(path)}", held.write, 256 * 1024)
            except ftplib.error_perm as error:
                held.close()
                if str(error).startswith("550"):
                    raise file_gone(path, self.where) from None
                raise
        held.seek(0)
        return held  # type: ignore[no-any-return]

    @override
    def put(self, path: str, content: IO[bytes], size: int) -> None:
        with self._told(f"writing {path} to"):
            made = ""
            for part in posixpath.dirname(path).split("/") if "/" in path else ():
                made = f"{made}/{part}" if made else part
                with suppress(ftplib.error_perm):
                    self._ftp.mkd(self._at(made))
            whole = self._at(path)
            with self._transfer():
                self._ftp.storbinary(f"STOR {whole}{PART}", content, 256 * 1024)
            with suppress(ftplib.error_perm):
                self._ftp.delete(whole)
            self._ftp.rename(whole + PART, whole)

    def _at(self, path: str) -> str:
        return f"{self._folder}/{path}"

    @override
    def close(self) -> None:
        with suppress(OSError, EOFError, ftplib.Error):
            self._ftp.quit()
        self._ftp.close()

    @contextmanager
    def _told(self, doing: str) -> Iterator[None]:
        try:
            yield
        except ftplib.error_perm as error:
            words = str(error)
            say = self._errors.refused if words.startswith(("530", "532")) else self._errors.failed
            raise (self._errors.forbidden if words.startswith("550") else say)(doing, words) from None
        except ssl.SSLError as error:
            raise self._errors.refused(doing, f"TLS: {error.reason or error}") from None
        except TimeoutError:
            raise self._errors.timed_out(doing) from None
        except (OSError, EOFError, ftplib.Error) as error:
            raise self._errors.unreachable(doing, str(error) or "the connection ended") from None


def _time(text: str | None) -> datetime | None:
    """`20260101120000.123`, in UTC (RFC 3659)."""
    return datetime.strptime(text[:14], "%Y%m%d%H%M%S").replace(tzinfo=UTC) if text else None


def open_from(source: FileSource, reveal: Callable[[str], str], places: Places) -> FtpStore:
    """See `stores.open.open_store`."""
    return FtpStore(source, password_of(source, reveal), authority_of(source, places))
