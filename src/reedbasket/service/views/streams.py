"""Answers that are streamed: server-sent events (https://html.spec.whatwg.org/multipage/server-sent-events.html)."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from typing import Any

import orjson
from flask import Response, current_app, request

from ...core.errors import ReedError
from ..auth import caller_of
from ..problems import TooManyStreams
from .shared import caller, parts

# A stream says something at least this often, so that both sides notice a broken connection.
QUIET_SECONDS = 10.0
LONGEST_STREAM_SECONDS = 3600.0


def streamed(on: str, events: Callable[[], Iterator[bytes]]) -> Response:
    """A stream of events.

    Raises:
        TooManyStreams: half of the threads are streaming, or most of those for one caller.
    """
    own, who = parts(), caller().name
    found = own.streams.take(who)
    if found:
        raise TooManyStreams("watching", on, found=found, fix="close one, or raise --threads")
    app = current_app._get_current_object()  # type: ignore[attr-defined]
    asked = request._get_current_object()  # type: ignore[attr-defined]

    def stream() -> Iterator[bytes]:
        looked = time.monotonic()
        with app.app_context():
            for some in events():
                yield some
                # Whoever has no rights any more hears no more.
                if time.monotonic() - looked > QUIET_SECONDS:
                    try:
                        caller_of(asked, own.store)
                    except ReedError:
                        return
                    looked = time.monotonic()

    answer = Response(stream(), content_type="text/event-stream", headers={"Cache-Control": "no-cache"})
    # Also where nobody ever read of it.
    answer.call_on_close(lambda: own.streams.give(who))
    return answer


def event(name: str, data: Any, number: int) -> bytes:
    return b"event: %s\nid: %d\ndata: %s\n\n" % (name.encode(), number, orjson.dumps(data))
