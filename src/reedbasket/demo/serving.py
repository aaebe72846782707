"""What the stand-ins share: answers, the switch that makes things happen, and a process that serves them all."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

import orjson
from flask import Flask, Response


def as_json(body: Any, status: int = 200, headers: Mapping[str, str] | None = None) -> Response:
    """An answer of JSON."""
    return Response(orjson.dumps(body), status, headers, content_type="application/json")


def add_switch(app: Flask, things: Mapping[str, Callable[[], str]]) -> None:
    """What the outside world does to a stand-in is asked for under /happen, where nobody has to sign in: it is the demo's own
    switch, no part of the API."""

    @app.get("/happen")
    def happenings() -> Response:
        return as_json({"things": sorted(things)})

    @app.post("/happen/<thing>")
    def happen(thing: str) -> Response:
        if thing not in things:
            return as_json({"error": f"there is no such event; there are {', '.join(sorted(things))}"}, 404)
        return as_json({"happened": things[thing]()})
