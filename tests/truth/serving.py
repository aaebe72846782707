"""Serves a world over HTTP as a declaration says, spoiled by faults. Imports nothing of the product."""

from __future__ import annotations

import base64
import csv
import gzip
import io
import itertools
import json
import socket
import struct
import threading
import zlib
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import parse_qs, urlencode, urlsplit
from xml.sax.saxutils import escape

from tests.truth.world import World, read, write

KINDS = {"json": "application/json", "ndjson": "application/x-ndjson", "csv": "text/csv", "xml": "application/xml"}
CSV_COLUMNS = ["id", "name", "n", "note", "updated_at"]


@dataclass(frozen=True)
class Declaration:
    """How the source answers, and how a feed asks for it. order: of its list. compares: times as text, or as instants. nested: key and
    time of change stand inside objects."""

    style: str = "token"
    form: str = "json"
    by: str = "cursor"
    write: str = "upsert"
    writing: str = "z"
    compares: str = "text"
    bound: str = "inclusive"
    order: str = "cursor"
    promised: bool = False
    total: str = "none"
    coding: str = "identity"
    deletes: str = "hard"
    warehouses: tuple[str, ...] = ("sqlite",)
    concurrency: int = 2
    nested: bool = False
    size: int = 4
    # What lies below each record is asked for once for each: of all of them, or of those that changed; '' for not at all.
    below: str = ""
    below_write: str = "upsert"

    @property
    def bare(self) -> bool:
        """Nothing stands around the records."""
        return self.form in ("csv", "ndjson")


@dataclass
class Page:
    """One page before it is written down. following: a token or address; None after the last. silent: where none follows, not even
    the place where it would stand is there."""

    number: int
    records: list[Any]
    following: str | None
    total: int | None
    extra: dict[str, Any] = field(default_factory=dict)
    silent: bool = False
    headers: list[tuple[str, str]] = field(default_factory=list)


@dataclass
class Sent:
    """What goes over the wire. framing: by length, in chunks, or until the connection ends. stop: only so many bytes of the body go;
    then the connection ends, with a reset where `reset`. said: of the length, where it is a lie."""

    status: int
    headers: list[tuple[str, str]]
    body: bytes
    framing: str = "length"
    stop: int | None = None
    reset: bool = False
    said: int | None = None
    interim: bool = False


@dataclass(frozen=True)
class Fault:
    """One way to be wrong, or only unusual. stage: where it strikes (asked, listed, page, text, sent). harmless: what comes is right all
    the same. once: only the first time that a page is asked for. fits: declarations in which it means something. told: the run may say
    that it succeeded, if it warns with this code, for from one side it cannot be told from a right answer."""

    name: str
    stage: str
    do: Callable[[Server, Any], Any]
    harmless: bool = False
    once: bool = False
    fits: Callable[[Declaration], bool] = lambda declared: True
    told: str = ""

    def __repr__(self) -> str:
        return self.name


class Server:
    """One source. `faults`: [(fault, the page from which it strikes)]."""

    def __init__(self, world: World, declared: Declaration) -> None:
        self.world = world
        self.declared = declared
        self.url = ""
        self.faults: list[tuple[Fault, int]] = []
        self.requests = 0
        self.served = 0
        self.struck: set[str] = set()
        self._times: dict[tuple[str, int], int] = {}
        self.lock = threading.Lock()
        # For faults that remember: the address asked, of each connection its own; a time in the run, whether something moved already,
        # records spoiled.
        self._asked = threading.local()
        self.now = world.latest
        self.moved = False
        self.count = 0
        self.held: str | None = None
        self.altered: set[int] = set()
        self.hidden: set[int] = set()
        self.shown: set[int] = set()  # on the page that is being answered

    @property
    def here(self) -> str:
        """The address asked, by the connection whose turn it is."""
        return str(getattr(self._asked, "here", ""))

    def quiet(self, url: str) -> None:
        """A new run begins at this address, without faults."""
        with self.lock:
            self.url = url
            self.faults, self.struck, self._times, self.requests, self.served = [], set(), {}, 0, 0
            self.moved, self.count, self.held, self.altered, self.hidden = False, 0, None, set(), set()

    def answer(self, query: dict[str, str], url: str) -> Sent:
        with self.lock:
            if not url.startswith(self.url + "/"):
                return Sent(410, [], b"")
            self.requests += 1
            self._asked.here = url + ("?" + urlencode(query) if query else "")
            return self._below(url) if url.endswith("/places") else self._answer(query, url)

    def _below(self, url: str) -> Sent:
        """All that one record has: faults of a whole answer strike here too."""
        self._at = number = int(url.split("/")[-2])
        row = self.world.rows.get(number)
        refused = self._spoil("asked", None)
        if refused is not None:
            return refused
        body = json.dumps({"items": row.values["seats"] if row else []}).encode()
        return self._spoil("sent", self._coded([("Content-Type", KINDS["json"])], body))

    def _coded(self, headers: list[tuple[str, str]], body: bytes) -> Sent:
        coding = self.declared.coding
        if coding == "identity":
            return Sent(200, headers, body)
        packed = gzip.compress(body, mtime=0) if coding == "gzip" else zlib.compress(body)
        return Sent(200, [*headers, ("Content-Encoding", coding)], packed)

    def _answer(self, query: dict[str, str], url: str) -> Sent:
        declared = self.declared
        records = self._listed(query)
        start = self._start(query, records)
        number = start // declared.size
        self._at = number
        refused = self._spoil("asked", None)
        if refused is not None:
            return refused
        records = self._spoil("listed", records)
        some = records[start : start + declared.size]
        more = declared.style != "none" and start + declared.size < len(records)
        if declared.style == "none":
            some = records
        following = self._following(some, start + declared.size, query, url) if more and some else None
        page = self._spoil("page", Page(number, some, following, len(records)))
        self.served += len(page.records)
        self.shown = {record["id"] for record in page.records if isinstance(record, dict)}
        kind, body = self._written(page)
        kind, body = self._spoil("text", (kind, body))
        headers = [("Content-Type", kind)] if kind else []
        headers += page.headers
        if page.following is not None and declared.style == "token_header":
            headers.append(("X-Next", page.following))
        if page.following is not None and declared.style == "url_header":
            headers.append(("X-Next-Page", page.following))
        if page.following is not None and declared.style == "link":
            headers.append(("Link", f'<{url.split("?")[0]}>; rel="first", <{page.following}>; rel="next"'))
        if declared.total == "header" and page.total is not None:
            headers.append(("X-Total-Count", str(page.total)))
        return self._spoil("sent", self._coded(headers, body))

    def _spoil(self, stage: str, value: Any) -> Any:
        for fault, first in self.faults:
            if fault.stage != stage or self._at < first:
                continue
            times = self._times.get((fault.name, self._at), 0)
            if fault.once and (times or self._at != first):
                continue
            changed = fault.do(self, value)
            if changed is not None:
                self._times[fault.name, self._at] = times + 1
                self.struck.add(fault.name)
                value = changed
        return value

    # The list, and where a page begins in it

    def _listed(self, query: dict[str, str]) -> list[dict[str, Any]]:
        world, declared = self.world, self.declared
        found = [world.record(number) for number in sorted(world.rows)]
        if "since" in query:
            found = [record for record in found if self._after(record["id"], record["updated_at"], query["since"])]
        if "until" in query:
            begins, ends = (read(query[name], "z") for name in ("from", "until"))
            assert begins is not None and ends is not None
            found = [record for record in found if begins <= world.rows[record["id"]].at < ends]
        if declared.order == "cursor":
            found.sort(key=lambda r: (world.rows[r["id"]].at, r["id"]))
        elif declared.order == "newest":
            found.sort(key=lambda r: (world.rows[r["id"]].at, r["id"]), reverse=True)
        if declared.form in ("csv", "xml"):
            found = [{c: r.get(c) for c in CSV_COLUMNS} for r in found]
        return found

    def _after(self, number: int, shown: Any, since: str) -> bool:
        inclusive = self.declared.bound == "inclusive"
        if self.declared.compares == "text" and isinstance(shown, str):
            return shown > since or (inclusive and shown == since)
        at, floor = self.world.rows[number].at, read(since, self.declared.writing)
        if floor is None:
            raise ValueError(f"since {since!r}")
        # What it shows is what it compares: no finer.
        shown_at = read(write(at, self.declared.writing), self.declared.writing)
        assert shown_at is not None
        return shown_at > floor or (inclusive and shown_at == floor)

    def _start(self, query: dict[str, str], records: list[dict[str, Any]]) -> int:
        style, size = self.declared.style, self.declared.size
        if style == "page":
            return (int(query.get("page", 1)) - 1) * size
        if style == "offset":
            return int(query.get("skip", 0))
        if style == "last":
            return sum(1 for r in records if r["id"] <= int(query["after"])) if "after" in query else 0
        if "after" not in query:
            return 0
        # By key, so that it stays where it was when rows come and go.
        mark = json.loads(base64.urlsafe_b64decode(query["after"]))
        return sum(1 for r in records if self._place(r["id"]) <= mark)

    def _place(self, number: int) -> list[Any]:
        at = self.world.rows[number].at.timestamp()
        return {"cursor": [at, number], "newest": [-at, -number]}.get(self.declared.order, [number])

    def _following(self, some: list[dict[str, Any]], end: int, query: dict[str, str], url: str) -> str:
        mark = base64.urlsafe_b64encode(json.dumps(self._place(some[-1]["id"])).encode()).decode()
        if self.declared.style in ("link", "url", "url_header"):
            return url.split("?")[0] + "?" + urlencode({**query, "after": mark})
        return mark

    # Written down

    def _written(self, page: Page) -> tuple[str, bytes]:
        form = self.declared.form
        if self.declared.nested:
            page = replace(page, records=[_nested(record) for record in page.records])
        if form == "ndjson":
            return KINDS[form], b"".join(json.dumps(r, ensure_ascii=False).encode() + b"\n" for r in page.records)
        if form == "csv":
            out = io.StringIO()
            writer = csv.writer(out, lineterminator="\n")
            writer.writerow(CSV_COLUMNS)
            for record in page.records:
                writer.writerow(["" if record.get(c) is None else record[c] for c in CSV_COLUMNS])
            return KINDS[form], out.getvalue().encode()
        if form == "xml":
            return KINDS[form], self._xml(page)
        meta: dict[str, Any] = {}
        named = {"token": "next", "url": "url"}.get(self.declared.style)
        if named and not (page.silent and page.following is None):
            meta[named] = page.following
        if self.declared.total == "body" and page.total is not None:
            meta["total"] = page.total
        return KINDS[form], json.dumps({"items": page.records, "meta": meta, **page.extra}, ensure_ascii=False).encode()

    def _xml(self, page: Page) -> bytes:
        def element(record: dict[str, Any]) -> str:
            inside = "".join(f"<{n}>{escape(str(v))}</{n}>" for n, v in record.items() if v is not None)
            return f"<item>{inside}</item>"

        following = (
            f"<next>{escape(page.following)}</next>" if page.following and self.declared.style in ("token", "url") else ""
        )
        total = f"<total>{page.total}</total>" if self.declared.total == "body" else ""
        items = "".join(element(r) for r in page.records if isinstance(r, dict))
        return f'<?xml version="1.0"?><answer>{following}{total}<items>{items}</items></answer>'.encode()


def _nested(record: Any) -> Any:
    if not isinstance(record, dict):
        return record
    rest = {name: value for name, value in record.items() if name not in ("id", "updated_at")}
    return {"ref": {"id": record["id"]}, **rest, "meta": {"updated_at": record["updated_at"]}}


class Host:
    """A real HTTP server on loopback. Each run of each history has an address of its own, so that what an earlier one still asks for is
    not counted with the next."""

    def __init__(self) -> None:
        self._server: Server | None = None
        self._numbers = itertools.count(1)
        host = self

        class Handler(BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"

            def do_GET(self) -> None:
                parts = urlsplit(self.path)
                query = {k: v[-1] for k, v in parse_qs(parts.query, keep_blank_values=True).items()}
                assert host._server is not None
                try:
                    sent = host._server.answer(query, host.origin + parts.path)
                except Exception as error:
                    sent = Sent(400, [("Content-Type", "text/plain")], repr(error).encode())
                self.send(sent)

            def send(self, sent: Sent) -> None:
                if sent.interim:
                    self.wfile.write(b"HTTP/1.1 103 Early Hints\r\nLink: </style.css>; rel=preload\r\n\r\n")
                self.send_response(sent.status)
                for name, value in sent.headers:
                    self.send_header(name, value)
                body = sent.body
                if sent.framing == "chunked":
                    self.send_header("Transfer-Encoding", "chunked")
                    half = max(1, len(body) // 2)
                    pieces = [body[i : i + half] for i in range(0, len(body), half)]
                    body = b"".join(b"%x\r\n%s\r\n" % (len(p), p) for p in pieces) + b"0\r\n\r\n"
                elif sent.framing == "length":
                    self.send_header("Content-Length", str(sent.said if sent.said is not None else len(body)))
                else:
                    self.send_header("Connection", "close")
                self.end_headers()
                self.wfile.write(body if sent.stop is None else body[: sent.stop])
                self.wfile.flush()
                if sent.stop is not None or sent.framing == "close":
                    self.close_connection = True
                if sent.reset:
                    self.connection.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))

            def log_message(self, *_: Any) -> None:
                pass

        class Quiet(ThreadingHTTPServer):
            daemon_threads = True

            def handle_error(self, request: Any, client_address: Any) -> None:
                """That a client hung up is no news here."""

        self._http = Quiet(("127.0.0.1", 0), Handler)
        self.origin = f"http://127.0.0.1:{self._http.server_port}"
        threading.Thread(target=self._http.serve_forever, kwargs={"poll_interval": 0.02}, daemon=True).start()

    def serve(self, server: Server) -> str:
        """Serves this source alone, at a new address, and returns that."""
        self._server = server
        url = f"{self.origin}/{next(self._numbers)}"
        server.quiet(url)
        return url

    def close(self) -> None:
        self._http.shutdown()
        self._http.server_close()


__all__ = ["KINDS", "Declaration", "Fault", "Host", "Page", "Sent", "Server", "replace"]
