"""A local server of nested JSON records: about 300 bytes each, one object, one list of 0 to 3 objects, pages by token.

Pages are rendered before the first request where they fit in memory, so that the server costs both sides next to nothing.
"""

from __future__ import annotations

import random
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from functools import lru_cache
from typing import Any

import orjson

PAGE = 500
_START = datetime(2026, 1, 1, tzinfo=UTC)
_MOST_PRERENDERED = 1000


def record(number: int, rng: random.Random) -> dict[str, Any]:
    return {
        "id": f"R-{number:07d}",
        "number": number,
        "name": f"record number {number} of the tide table",
        "state": rng.choice(["open", "closed", "waiting"]),
        "weight": round(rng.uniform(1, 900), 2),
        "checked": rng.random() < 0.5,
        "place": {
            "landing": rng.choice(["OSQ", "EEL", "TAN"]),
            "berth": rng.randint(1, 9),
            "lat": round(rng.uniform(51, 52), 5),
        },
        "lines": [
            {"item": f"item {rng.randint(1, 99)}", "count": rng.randint(1, 9), "price": round(rng.uniform(1, 99), 2)}
            for _ in range(rng.randint(0, 3))
        ],
        "made_at": (_START + timedelta(seconds=number * 3)).isoformat(),
        "updated_at": (_START + timedelta(seconds=number * 4)).isoformat().replace("+00:00", "Z"),
    }


def page(start: int, count: int) -> bytes:
    rng = random.Random(start)
    items = [record(n, rng) for n in range(start, min(start + PAGE, count))]
    following = str(start + PAGE) if start + PAGE < count else None
    return orjson.dumps({"items": items, "meta": {"next": following, "total": count}})


def main(count: int) -> None:
    from waitress.server import create_server

    render = lru_cache(maxsize=_MOST_PRERENDERED)(lambda start: page(start, count))
    if count // PAGE <= _MOST_PRERENDERED:
        for start in range(0, count, PAGE):
            render(start)

    def application(environ: dict[str, Any], respond: Any) -> list[bytes]:
        query = dict(part.partition("=")[::2] for part in environ["QUERY_STRING"].split("&") if part)
        body = render(int(query.get("after", 0)))
        if query.get("empty"):
            body = b'{"items": [], "meta": {"next": null}}'
        respond("200 OK", [("Content-Type", "application/json"), ("Content-Length", str(len(body)))])
        return [body]

    server = create_server(application, host="127.0.0.1", port=0, threads=2, ident=None)
    print(f"http://127.0.0.1:{server.effective_port}", flush=True)
    server.run()


@contextmanager
def serving(count: int) -> Iterator[str]:
    """The address of a server of `count` records, in a process of its own."""
    process = subprocess.Popen([sys.executable, "-m", "bench.api_server", str(count)], stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    try:
        yield process.stdout.readline().strip()
    finally:
        process.kill()
        process.wait()


if __name__ == "__main__":
    main(int(sys.argv[1]))
