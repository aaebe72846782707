"""The files of a feed's tables: which were taken, and taking some of them again."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from fnmatch import fnmatchcase
from typing import Annotated, Any, Literal

from pydantic import Field

from ... import wire
from ...core.errors import Conflict, NotFound
from ...core.load import Warehouse, open_warehouse
from ...store import definitions, runs, secrets
from ..operations import Body, Query
from .feeds import require_feed
from .shared import operations, parts


class FilesPart(Query):
    table: Annotated[str | None, Field(description="only of this one of the feed's tables")] = None
    state: Annotated[Literal["taken", "bad", "left", "gone", "again"] | None, Field(description="only those")] = None
    match: Annotated[str | None, Field(description="only paths that match this pattern")] = None
    limit: Annotated[int, Field(ge=1, le=1000)] = 100


class Rewind(Body):
    table: str
    files: Annotated[list[str], Field(min_length=1, description="paths, or patterns of them")]


@operations.add(
    "GET",
    "/api/v1/feeds/{feed}/files",
    "the files of its tables, the latest taken first",
    answer=list[wire.FileLine],
    query=FilesPart,
    problems=(404,),
)
def feed_files(feed: str, query: FilesPart) -> Any:
    with _opened(feed) as (tables, warehouse):
        found = [
            {"table": table, **line.as_dict()}
            for table in tables
            if query.table in (None, table)
            for line in warehouse.files(feed, table)
            if query.state in (None, line.state) and (query.match is None or fnmatchcase(line.path, query.match))
        ]
    found.sort(key=lambda line: (line["at"], line["path"]), reverse=True)
    return found[: query.limit]


@operations.add(
    "POST",
    "/api/v1/feeds/{feed}/rewind",
    "take files once more with the next run, whether they changed or not",
    answer=wire.Again,
    body=Rewind,
    problems=(404, 409, 422),
)
def rewind(feed: str, body: Rewind) -> Any:
    with _opened(feed) as (tables, warehouse):
        if body.table not in tables:
            raise NotFound(
                "rewinding",
                f"{feed}.{body.table}",
                found=f"tables of the feed: {', '.join(tables)}",
                mend="name one of them",
                code="table.not_found",
            )
        if runs.active(parts().store, feed):
            raise Conflict(
                "rewinding", feed, found="a run of it is under way", mend="wait for its end, or cancel it", code="feed.running"
            )
        known = [line.path for line in warehouse.files(feed, body.table) if line.state != "gone"]
        chosen = [path for path in known if any(path == one or fnmatchcase(path, one) for one in body.files)]
        if not chosen:
            raise NotFound(
                "rewinding",
                f"{feed}.{body.table}",
                found=f"none of its {len(known)} files matches {', '.join(body.files)}",
                mend="see them with `reed files`",
                code="file.not_found",
            )
        return {"files": warehouse.take_again(feed, body.table, chosen)}


@contextmanager
def _opened(feed: str) -> Iterator[tuple[list[str], Warehouse]]:
    """(the feed's tables, its warehouse)."""
    store = parts().store
    basket = definitions.basket(store)
    require_feed(basket, feed)
    definition = basket.feeds[feed]
    warehouse = open_warehouse(basket.warehouses[definition.warehouse], store.folder, lambda name: secrets.reveal(store, name))
    try:
        yield list(definition.tables), warehouse
    finally:
        warehouse.close()
