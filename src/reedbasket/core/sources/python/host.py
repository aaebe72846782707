"""The worker's side of a connector's process: starts it, sends its requests, passes on its records, and ends it."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
from collections import deque
from collections.abc import Callable, Iterator, Mapping
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from urllib.parse import urlencode, urljoin, urlsplit

import orjson

from ... import errors
from ...masking import Mask
from ...spec.python_runtime import Code
from ..http.answers import Answer
from ..http.request import Request
from . import frames

# Of what a connector prints, so many lines are kept for the log, each cut.
_MOST_LINES, _LINE = 40, 300
_DESCRIBE_SECONDS = 20.0

Send = Callable[[Request, frozenset[int]], Answer]


@dataclass(frozen=True)
class Found:
    """A message from the connector; letter: see frames."""

    letter: bytes
    payload: bytes

    @property
    def body_bytes(self) -> int:
        """The size of the message."""
        return len(self.payload)


class ConnectorBroken(errors.SourceError):
    """A connector's file that is not valid Python, or lacks what it needs."""

    code = "connector.broken"


class ConnectorFailed(errors.SourceError):
    """A connector that raised an error, or ended unexpectedly."""

    code = "connector.failed"


class CodeHost:
    """One process, for one order.

    Args:
        send: sends a request of the connector's, with the statuses that are good.
    """

    def __init__(
        self,
        code: Code,
        *,
        doing: str,
        mask: Mask,
        stop: threading.Event,
        base: str = "",
        send: Send | None = None,
        told: Callable[[Any, str, str], None] = lambda level, code, words: None,
    ) -> None:
        self._code = code
        self._doing = doing
        self._mask = mask
        self._stop = stop
        self._base = base.rstrip("/")
        self._send = send
        self._told = told
        self._process: subprocess.Popen[bytes] | None = None
        # What this system cannot keep from it, once it was asked what it is.
        self.lacking: list[str] = []

    def describe(self) -> dict[str, Any]:
        """What the class declares, in the form of a connector's YAML.

        Raises:
            SourceError: the connector failed.
        """
        found: dict[str, Any] = {}
        for message in self._do({"do": "describe"}, _DESCRIBE_SECONDS):
            if message.letter == b"d":
                said = orjson.loads(message.payload)
                found, self.lacking = said["definition"], said["lacking"]
        return found

    def check(self, settings: Mapping[str, Any]) -> None:
        """Run the connector's own check.

        Raises:
            SourceError: the check failed.
        """
        for _ in self._do({"do": "check", "settings": settings}, self._code.idle_timeout):
            pass

    def tables(self, settings: Mapping[str, Any]) -> dict[str, dict[str, Any]]:
        """The source's tables: {name: in the form of a connector's YAML}.

        Raises:
            SourceError: the connector failed.
            RunCancelled: the run was cancelled.
        """
        for message in self._do({"do": "tables", "settings": settings}, self._code.idle_timeout):
            if message.letter == b"d":
                return dict(orjson.loads(message.payload))
        return {}

    def read(self, settings: Mapping[str, Any], table: str, position: Mapping[str, Any]) -> Iterator[Found]:
        """The messages while a table is read.

        Raises:
            SourceError: the connector failed.
            RunCancelled: the run was cancelled.
        """
        order = {"do": "read", "settings": settings, "table": table, "position": position}
        for message in self._do(order, self._code.idle_timeout):
            if message.letter != b"d":
                yield message

    def end(self) -> None:
        """End the process. From any thread."""
        if self._process is not None:
            _kill(self._process)

    def _do(self, order: dict[str, Any], silence: float) -> Iterator[Found]:
        code = self._code
        order |= {"entry": code.entry, "program": code.program, "memory": code.memory_limit}
        scratch = tempfile.mkdtemp(prefix="reed-connector-")
        # Nothing of our own surroundings: secrets may stand there.
        surroundings = {
            name: os.environ[name] for name in ("PATH", "LANG", "LC_ALL", "TZ", "SSL_CERT_FILE") if name in os.environ
        }
        process = self._process = subprocess.Popen(
            [sys.executable, "-P", "-m", "reedbasket.kit.child"],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            cwd=scratch,
            env={**surroundings, "HOME": scratch, "TMPDIR": scratch, "MALLOC_ARENA_MAX": "2"},
            start_new_session=True,
        )
        assert process.stdin and process.stdout and process.stderr
        printed: deque[bytes] = deque(maxlen=_MOST_LINES)
        listening = threading.Thread(target=_listen, args=(process.stderr, printed), daemon=True)
        listening.start()
        into, out = process.stdin.fileno(), process.stdout.fileno()
        frames.widen(into)
        frames.widen(out)
        try:
            frames.send(into, b"o", orjson.dumps({**order, "scratch": scratch}, default=_as_text))
            yield from self._talk(into, out, silence)
        except frames.PeerSilent:
            raise errors.SourceTimedOut(
                self._doing,
                code.entry,
                found=f"the connector yielded nothing for {silence:g} s, and was killed",
                fix="yield records as they come, or raise `idle_timeout` in its definition",
                code="connector.timed_out",
            ) from None
        except frames.PeerGone:
            process.wait(5)
            last = printed[-1].decode("utf-8", "replace").strip() if printed else "it printed nothing"
            raise ConnectorBroken(
                self._doing,
                code.entry,
                found=f"its process ended unexpectedly ({_how(process.returncode)}): {self._mask.text(last)}",
                fix="see the run's log",
            ) from None
        finally:
            _end(process)
            listening.join(2)
            for line in printed:
                self._told("info", "connector.output", self._mask.text(line.decode("utf-8", "replace").rstrip())[:_LINE])
            shutil.rmtree(scratch, ignore_errors=True)

    def _talk(self, into: int, out: int, silence: float) -> Iterator[Found]:
        failed: errors.ReedError | None = None
        while True:
            letter, payload = frames.receive(out, seconds=silence, look=self._look)
            if letter == b"q":
                failed = self._answer(into, orjson.loads(payload))
            elif letter == b"l":
                line = orjson.loads(payload)
                self._told(
                    "warning" if line["level"] == "warning" else "info",
                    "connector.log",
                    self._mask.text(str(line["message"]))[:_LINE],
                )
            elif letter == b"e":
                raise self._error(orjson.loads(payload), failed)
            else:
                yield Found(letter, payload)
                if letter == b"d":
                    return

    def _look(self) -> None:
        if self._stop.is_set():
            raise errors.RunCancelled(self._doing, found="somebody asked for it")

    def _answer(self, into: int, asked: dict[str, Any]) -> errors.ReedError | None:
        """Why there is none."""
        try:
            answer = self._send_for(asked)
        except errors.RunCancelled:
            raise
        except errors.ReedError as error:
            frames.send(into, b"x", b"{}")
            return error
        head = {"status": answer.status, "headers": dict(answer.headers), "url": answer.url or ""}
        frames.send(into, b"h", orjson.dumps(head) + b"\n" + bytes(answer.body))
        return None

    def _send_for(self, asked: dict[str, Any]) -> Answer:
        assert self._send is not None
        path, query = str(asked["path"]), urlencode(asked["query"], safe=":")
        url = path if "://" in path else f"{self._base}/{path.lstrip('/')}"
        here, there = urlsplit(self._base), urlsplit(urljoin(self._base + "/", url))
        if (here.scheme, here.netloc) != (there.scheme, there.netloc):
            raise errors.SourceError(
                self._doing,
                self._mask.text(url),
                found=f"the connector sends a request to a server other than {here.scheme}://{here.netloc}",
                fix="credentials are sent to the server of `base_url` only; make a separate connector for the other",
                code="connector.other_server",
            )
        if query:
            url += ("&" if there.query else "?") + query
        headers = {str(name).lower(): str(text) for name, text in asked["headers"].items()}
        body: bytes | None = None
        if asked["method"] == "POST":
            if "form" in asked:
                body, kind = urlencode(asked["form"]).encode(), "application/x-www-form-urlencoded"
            else:
                body, kind = orjson.dumps(asked.get("json")), "application/json"
            headers.setdefault("content-type", kind)
        headers.setdefault("accept", "application/json")
        return self._send(Request(url, asked["method"], headers, body), frozenset(asked["good"]))

    def _error(self, said: dict[str, Any], failed: errors.ReedError | None) -> errors.ReedError:
        if said.get("request") and failed is not None:
            return failed
        found = self._mask.text(str(said["found"]))[:2000]
        if said.get("code"):
            at = f" at {said['where']}" if said.get("where") else ""
            fix = said.get("fix") or "fix the connector; `reed connector check` tries everything it does"
            return ConnectorBroken(self._doing, self._code.entry, found=found + at, fix=fix, code=said["code"])
        error = ConnectorFailed(self._doing, self._code.entry, found=found, fix=self._mask.text(str(said["fix"])))
        error.retryable = bool(said["retry"])
        return error


def _listen(stream: Any, printed: deque[bytes]) -> None:
    for line in iter(lambda: stream.readline(1 << 16), b""):
        printed.append(line)


def _end(process: subprocess.Popen[bytes]) -> None:
    _kill(process)
    process.wait()
    for stream in (process.stdin, process.stdout):
        if stream is not None:
            stream.close()


def _kill(process: subprocess.Popen[bytes]) -> None:
    with suppress(ProcessLookupError, PermissionError):
        # What it may have begun itself goes with it.
        os.killpg(process.pid, signal.SIGKILL)


def _how(code: int | None) -> str:
    return f"signal {-code}" if code is not None and code < 0 else f"exit code {code}"


def _as_text(value: Any) -> Any:
    if isinstance(value, datetime):
        return value.isoformat()
    raise TypeError(f"{type(value).__name__} in an order")
