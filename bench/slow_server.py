"""A server that takes its time: pages by offset, parents with a child each, and a list that may be asked so many times a second.

GET /records?skip=&take=       {"items": [...], "total": n}
GET /parents                   the numbers 0 to n-1
GET /parents/N/child           one record
GET /limited?page=N            a page of one record, as long as the limit allows; else 429
GET /told                      {"answered": times of /limited since the start, "refused": how many}
"""

from __future__ import annotations

import asyncio
import random
import subprocess
import sys
import time
from collections import deque
from collections.abc import Iterator
from contextlib import contextmanager
from functools import lru_cache

import orjson

from .api_server import record

PER_SECOND = 50


class Limit:
    """At most PER_SECOND requests in any second, the strictest reading of such a limit."""

    def __init__(self) -> None:
        self._recent: deque[float] = deque()
        self.answered: list[float] = []
        self.refused: list[float] = []

    def admit(self) -> int | None:
        """How many are left, or None for a request too many."""
        now = time.monotonic()
        while self._recent and self._recent[0] <= now - 1.0:
            self._recent.popleft()
        if len(self._recent) >= PER_SECOND:
            self.refused.append(now)
            return None
        self._recent.append(now)
        self.answered.append(now)
        return PER_SECOND - len(self._recent)


@lru_cache(maxsize=4000)
def page(skip: int, take: int, count: int) -> bytes:
    rng = random.Random(skip)
    items = [record(n, rng) for n in range(skip, min(skip + take, count))]
    return orjson.dumps({"items": items, "total": count})


class Server:
    """told: answers of /limited speak of the limit in headers. One thread of plain asyncio: what it adds to the latency is a
    fraction of a millisecond, where threads add several."""

    def __init__(self, count: int, latency_ms: int, take: int, told: bool) -> None:
        self._count = count
        self._latency = latency_ms / 1000
        self._told = told
        self._limit = Limit()
        for skip in range(0, count if take else 0, take or 1):
            page(skip, take, count)

    async def connection(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            while True:
                head = await reader.readuntil(b"\r\n\r\n")
                status, headers, body = await self._answer(head.split(b" ", 2)[1].decode())
                lines = [f"HTTP/1.1 {status}", "Content-Type: application/json", f"Content-Length: {len(body)}", *headers]
                writer.write("\r\n".join([*lines, "", ""]).encode() + body)
                await writer.drain()
        except (asyncio.IncompleteReadError, ConnectionError):
            writer.close()

    async def _answer(self, target: str) -> tuple[str, list[str], bytes]:
        path, _, asked = target.partition("?")
        query = dict(part.partition("=")[::2] for part in asked.split("&") if part)
        if path == "/told":
            return "200 OK", [], orjson.dumps({"answered": self._limit.answered, "refused": self._limit.refused})
        if path == "/limited":
            return self._limited(query["page"])
        await asyncio.sleep(self._latency)
        if path == "/parents":
            return "200 OK", [], orjson.dumps([{"id": n} for n in range(self._count)])
        if path.startswith("/parents/"):
            return "200 OK", [], orjson.dumps([{"kind": "child", "of": path}])
        return "200 OK", [], page(int(query["skip"]), int(query["take"]), self._count)

    def _limited(self, number: str) -> tuple[str, list[str], bytes]:
        left = self._limit.admit()
        said = (("Limit", PER_SECOND), ("Remaining", left or 0), ("Reset", 1))
        headers = [f"X-RateLimit-{name}: {value}" for name, value in said] if self._told else []
        if left is None:
            return "429 Too Many Requests", [*headers, "Retry-After: 1"], b'{"error": "slower"}'
        return "200 OK", headers, orjson.dumps({"items": [{"id": int(number)}], "total": 1_000_000})


async def main(count: int, latency_ms: int, take: int, told: bool) -> None:
    server = await asyncio.start_server(Server(count, latency_ms, take, told).connection, "127.0.0.1", 0)
    print(f"http://127.0.0.1:{server.sockets[0].getsockname()[1]}", flush=True)
    await server.serve_forever()


@contextmanager
def serving(count: int, latency_ms: int = 0, *, take: int = 0, told: bool = True) -> Iterator[str]:
    """Its address; it runs in a process of its own. take: records a page, made before the first request."""
    command = [sys.executable, "-m", "bench.slow_server", *map(str, (count, latency_ms, take, int(told)))]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    try:
        yield process.stdout.readline().strip()
    finally:
        process.kill()
        process.wait()


if __name__ == "__main__":
    asyncio.run(main(int(sys.argv[1]), int(sys.argv[2]), int(sys.argv[3]), sys.argv[4] == "1"))
