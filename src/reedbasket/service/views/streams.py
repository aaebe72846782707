"""Answers that go on: server-sent events (https://html.spec.whatwg.org/multipage/server-sent-events.html)."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

import orjson
from flask import Response, current_app

from ..problems import TooManyWatchers
from .shared import parts

# A stream says something at least this often, so that both sides notice a broken connection.
QUIET_SECONDS = 10.0
LONGEST_STREAM_SECONDS = 3600.0


def streamed(on: str, events: Callable[[], Iterator[bytes]]) -> Response:
    """Raises TooManyWatchers where half of the threads stream already."""
    own = parts()
    if own.watchers >= own.settings.most_watchers:
        raise TooManyWatchers("watching", on, found=f"{own.watchers} streams are open", mend="close one, or raise --threads")
    app = current_app._get_current_object()  # type: ignore[attr-defined]

    def stream() -> Iterator[bytes]:
        with own.watching(), app.app_context():
            yield from events()

    return Response(stream(), content_type="text/event-stream", headers={"Cache-Control": "no-cache"})


def event(name: str, data: Any, number: int) -> bytes:
    return b"event: %s\nid: %d\ndata: %s\n\n" % (name.encode(), number, orjson.dumps(data))
