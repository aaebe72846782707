"""Loading part of a source again: the files of a feed's tables, and the cursors of others."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from ... import wire
from ...core.errors import Conflict, no_such_table
from ...store import definitions, runs
from ..inspection import feeds as inspection
from ..operations import Body, Query
from .feeds import require_feed
from .shared import inspect_in_process, noted, operations, parts


class FilesPart(Query):
    """Which files."""

    table: Annotated[str | None, Field(description="only for this table of the feed")] = None
    state: Annotated[Literal["loaded", "failed", "ignored", "missing", "requeued"] | None, Field(description="only these")] = (
        None
    )
    match: Annotated[str | None, Field(description="only paths that match this pattern")] = None
    limit: Annotated[int, Field(ge=1, le=1000)] = 100


class Rewind(Body):
    """Which files to load again."""

    table: str
    files: Annotated[list[str], Field(min_length=1, description="paths, or patterns of them")]


class RewindCursor(Body):
    """Where to move the cursor."""

    table: str
    to: Annotated[str | None, Field(description="an earlier value of the cursor; by default the beginning")] = None
    dry_run: Annotated[bool, Field(description="only say what it would cost")] = False


@operations.add(
    "GET",
    "/api/v1/feeds/{feed}/files",
    "a feed's files, latest loaded first",
    query=FilesPart,
    problems=(404,),
)
def feed_files(feed: str, query: FilesPart) -> list[wire.FileLine]:
    require_feed(definitions.basket(parts().store), feed)
    return inspect_in_process(inspection.files, feed, query.table, query.state, query.match, query.limit)


@operations.add(
    "POST",
    "/api/v1/feeds/{feed}/rewind",
    "have the next run load files again",
    body=Rewind,
    problems=(404, 409, 422),
)
def rewind(feed: str, body: Rewind) -> wire.RequeuedFiles:
    basket = definitions.basket(parts().store)
    require_feed(basket, feed)
    tables = basket.feeds[feed].tables
    if body.table not in tables:
        raise no_such_table("rewinding", f"{feed}.{body.table}", f"tables of the feed: {', '.join(tables)}")
    _require_idle(feed)
    return {"files": inspect_in_process(inspection.count_requeued, feed, body.table, body.files)}


@operations.add(
    "POST",
    "/api/v1/feeds/{feed}/rewind-cursor",
    "have the next run read a table again, from an earlier value of its cursor or from the beginning",
    body=RewindCursor,
    problems=(404, 409, 422, 502),
)
def rewind_cursor(feed: str, body: RewindCursor) -> wire.RewoundCursor:
    require_feed(definitions.basket(parts().store), feed)
    if not body.dry_run:
        _require_idle(feed)
    found = inspect_in_process(inspection.rewound, feed, body.table, body.to, body.dry_run)
    noted(f"{body.table}: {found['was']} to {found['now'] or 'the beginning'}{', dry run' if body.dry_run else ''}")
    return found


def _require_idle(feed: str) -> None:
    if runs.active(parts().store, feed):
        raise Conflict(
            "rewinding", feed, found="a run of it is under way", fix="wait for its end, or cancel it", code="feed.running"
        )
