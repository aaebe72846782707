"""Recorded answers: what an API answered once, replayed without it.

A recording is a folder of JSON files, one for each exchange, in the order in which they were made. Requests are identified by method,
path, query and body. Secrets are masked before anything is written, so that a recording can be stored with its connector and shown to
anybody.
"""

from __future__ import annotations

import hashlib
import io
import json
import re
import threading
import zlib
from collections.abc import Mapping
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, Literal
from urllib.parse import urlsplit

import urllib3

from ...errors import SourceError
from ...masking import Mask
from ...spec.times import format_time, parse_time
from .decoding import Decoder

_FACTS = "recording.json"
# Of an answer's headers, those that are not kept: who was asking, how it was sent, and where and when that was.
_NOT_KEPT = frozenset(
    {
        "authorization", "connection", "content-encoding", "content-length", "date", "keep-alive",
        "proxy-authenticate", "server", "set-cookie", "strict-transport-security", "trailer", "transfer-encoding",
        "upgrade", "vary", "via", "www-authenticate",
    }
)  # fmt: skip


class NotRecorded(SourceError):
    """A request to which the recording has no answer."""

    code = "source.answer_not_recorded"


class Recording:
    """One recording.

    Attributes:
        way: record or replay.
        scope: an exchange of one scope is not an answer in another: with wrong credentials the same request has another answer.
        started: when the recorded run began. A replayed run begins at the same time, so that it sends the same requests.
    """

    def __init__(self, folder: Path, way: Literal["record", "replay"]) -> None:
        """Open a recording.

        Raises:
            NotRecorded: there is nothing to replay.
        """
        self.folder = folder
        self.way = way
        self.scope = ""
        self.mask = Mask()
        self._lock = threading.Lock()
        self._held: dict[tuple[str, str], dict[str, Any]] = {}
        if way == "record":
            folder.mkdir(parents=True, exist_ok=True)
            for old in folder.glob("*.json"):
                old.unlink()
            self.started = datetime.now(UTC).replace(microsecond=0)
            (folder / _FACTS).write_text(json.dumps({"started": format_time(self.started)}) + "\n")
            return
        if not (folder / _FACTS).is_file():
            raise NotRecorded("replaying", str(folder), found="nothing recorded there", fix="record it first, with `--record`")
        self.started = parse_time(json.loads((folder / _FACTS).read_text())["started"])
        for file in sorted(folder.glob("[0-9]*.json")):
            found = json.loads(file.read_text())
            asked = found["request"]
            self._held[found["scope"], _mark(asked["method"], asked["path"], asked["body"])] = found["answer"]

    def request(
        self, pool: urllib3.PoolManager, method: str, url: str, *, headers: Mapping[str, str], body: bytes | None, **how: Any
    ) -> Any:
        """In place of the connection pool's own method."""
        parts = urlsplit(url)
        path = self.mask.text(parts.path + ("?" + parts.query if parts.query else ""))
        text = self.mask.text((body or b"").decode("utf-8", "replace"))
        if self.way == "replay":
            found = self._held.get((self.scope, _mark(method, path, text)))
            if found is None:
                raise NotRecorded(
                    "replaying",
                    f"{method} {path}",
                    found=f"no such request is recorded in {self.folder}",
                    fix="record it again with `--record`",
                )
            return _answer(found["status"], found["headers"], found["body"].encode("utf-8", "surrogateescape"))
        raw = pool.request(method, url, headers=headers, body=body, **how)
        packed = b"".join(raw.stream(1 << 18, decode_content=False))
        said = {name.lower(): value for name, value in raw.headers.items()}
        kept = {name: self.mask.text(value) for name, value in said.items() if name not in _NOT_KEPT}
        raw.release_conn()
        content = _unpacked(packed, said.get("content-encoding", ""))
        # What ends too soon is no answer to be said again.
        if content is not None:
            whole = self.mask.text(content.decode("utf-8", "surrogateescape"))
            answer = {"status": raw.status, "headers": kept, "body": whole}
            self._keep({"method": method, "path": path, "body": text}, answer)
        return _answer(raw.status, said, packed)

    def _keep(self, asked: dict[str, str], answer: dict[str, Any]) -> None:
        mark = _mark(asked["method"], asked["path"], asked["body"])
        with self._lock:
            if (self.scope, mark) in self._held:
                return
            self._held[self.scope, mark] = answer
            words = re.sub(r"[^a-z0-9]+", "-", f"{asked['method']} {urlsplit(asked['path']).path}".lower()).strip("-")
            file = self.folder / f"{len(self._held):04}-{words[:60]}.json"
            made = {"scope": self.scope, "request": asked, "answer": answer}
            file.write_text(json.dumps(made, indent=1, ensure_ascii=True) + "\n")


def _mark(method: str, path: str, body: str) -> str:
    return hashlib.sha256(f"{method} {path}\n{body}".encode("utf-8", "surrogateescape")).hexdigest()


def _answer(status: int, headers: Mapping[str, str], content: bytes) -> urllib3.HTTPResponse:
    plain = {name: value for name, value in headers.items() if name.lower() not in ("transfer-encoding", "content-length")}
    return urllib3.HTTPResponse(io.BytesIO(content), plain, status, preload_content=False, decode_content=False)


def _unpacked(packed: bytes, coding: str) -> bytes | None:
    """None where it cannot be, or ends too soon."""
    try:
        stream = Decoder(coding)
        content = b"".join(stream.feed(packed))
    except (ValueError, zlib.error):
        return None
    return content if stream.ended else None
