"""Files over HTTP, by urllib3: read-only, and only files that are named in full, because there is no listing."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC
from email.utils import parsedate_to_datetime
from typing import IO, Any
from urllib.parse import quote, urlsplit

import urllib3
from typing_extensions import override

from .....allowed_paths import Places
from .....spec.file_source import FileSource
from ...problems import file_gone
from ...store import Body, FileInfo, Store, StoreErrors
from ..open import authority_of, password_of


class WebStore(Store):
    """Files named by their addresses."""

    grows = False
    concurrency = 4

    def __init__(self, source: FileSource, password: str | None, trust: str | None) -> None:
        self.where = (source.url or "").rstrip("/")
        self._errors = StoreErrors(self.where)
        verified: dict[str, Any] = {}
        if urlsplit(self.where).scheme == "https":
            verified = {"cert_reqs": "CERT_REQUIRED", "ca_certs": trust}
        self._pool = urllib3.PoolManager(
            timeout=urllib3.Timeout(connect=10, read=60),
            retries=urllib3.Retry(4, backoff_factor=0.5, status_forcelist=(429, 502, 503, 504), raise_on_status=False),
            headers=urllib3.make_headers(basic_auth=f"{source.user}:{password or ''}") if source.user else {},
            **verified,
        )

    @override
    def list(self, under: str) -> Iterator[FileInfo]:
        raise self._errors.failed(
            "listing", "files over HTTP cannot be listed", "name each file in full, without * and <names>"
        )

    @override
    def info(self, path: str) -> FileInfo | None:
        answer = self._ask("HEAD", path)
        if answer.status == 404:
            return None
        if answer.status in (405, 501):  # it answers no HEAD: nothing is known before it is fetched
            return FileInfo(path, -1, None)
        self._require(answer, path)
        return _info(path, answer)

    @override
    def open(self, path: str) -> Body:
        answer = self._ask("GET", path, preload_content=False)
        if answer.status == 404:
            raise file_gone(path, self.where)
        self._require(answer, path)
        return Body(answer, lambda: self._told(f"reading {path} from"), _info(path, answer))

    def _ask(self, method: str, path: str, **how: Any) -> urllib3.BaseHTTPResponse:
        with self._told(f"fetching {path} from"):
            return self._pool.request(
                method, f"{self.where}/{quote(path)}", headers={**self._pool.headers, "Accept-Encoding": "identity"},
                decode_content=False, **how,
            )  # fmt: skip

    def _require(self, answer: urllib3.BaseHTTPResponse, path: str) -> None:
        if answer.status in (401, 403):
            say = self._errors.refused if answer.status == 401 else self._errors.forbidden
            raise say(f"fetching {path} from", f"status {answer.status}")
        if answer.status != 200:
            raise self._errors.failed(f"fetching {path} from", f"status {answer.status}")

    @contextmanager
    def _told(self, doing: str) -> Iterator[None]:
        try:
            yield
        except urllib3.exceptions.TimeoutError:
            raise self._errors.timed_out(doing) from None
        except urllib3.exceptions.HTTPError as error:
            raise self._errors.unreachable(doing, str(error)) from None

    @override
    def put(self, path: str, content: IO[bytes], size: int) -> None:
        raise self._errors.read_only()

    @override
    def close(self) -> None:
        self._pool.clear()


def _info(path: str, answer: urllib3.BaseHTTPResponse) -> FileInfo:
    told = answer.headers
    modified = parsedate_to_datetime(told["last-modified"]).astimezone(UTC) if "last-modified" in told else None
    return FileInfo(path, int(told.get("content-length", -1)), modified, told.get("etag", ""))


def open_from(source: FileSource, reveal: Callable[[str], str], places: Places) -> WebStore:
    """See `stores.open.open_store`."""
    return WebStore(source, password_of(source, reveal), authority_of(source, places))
