"""Sources: their state, whether they answer, what they have, and signing in at them."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from typing import Annotated
from urllib.parse import quote

from flask import Blueprint, Response, redirect, request
from pydantic import Field

from ... import wire
from ...core.runs.inspection.look import how
from ...core.runs.planning.order import ResolvedSource, source_order
from ...core.spec import Basket
from ...core.spec.auth import oauth_of
from ...core.spec.template import fill
from ...store import definitions, requests, runs
from ...store.pace import state_of
from ..inspection import sources as inspection
from ..inspection.values import shown
from ..operations import Body
from .shared import inspect_in_process, operations, parts

# Where people come back to from signing in at a source. Open to all: what they bring proves who they are.
BACK = "/signed-in-at-source"
blueprint = Blueprint("sources", __name__)


class SurveyBody(Body):
    """Which tables to survey."""

    match: list[str] = Field(default_factory=list, description="patterns of the tables to show; by default all")
    exclude: list[str] = Field(default_factory=list, description="patterns of tables to exclude")


class PreviewBody(Body):
    """How many rows, and whether to include what was sent and received."""

    rows: Annotated[int, Field(ge=1, le=200)] = 10
    wire: Annotated[bool, Field(description="include what was sent and received, with secrets masked")] = False


class PreviewFilesBody(Body):
    """How many rows of which files."""

    files: Annotated[str, Field(min_length=1, description="a path, a pattern, or a table that a feed loads from there")]
    rows: Annotated[int, Field(ge=1, le=200)] = 10


@operations.add("GET", "/api/v1/sources", "list sources with their connector, settings and rate limit")
def list_sources() -> list[wire.Source]:
    basket = definitions.basket(parts().store)
    signed_in = _signed_in(basket, list(basket.sources))
    lags = runs.lags(parts().store, list(basket.feeds))
    return [_source(basket, name, name in signed_in, asked, lags) for name, asked in _asked(basket, sorted(basket.sources))]


@operations.add("GET", "/api/v1/sources/{source}", "one source", problems=(404,))
def get_source(source: str) -> wire.Source:
    basket = definitions.basket(parts().store)
    _order(basket, source)
    ((_, asked),) = _asked(basket, [source])
    lags = runs.lags(parts().store, [name for name, feed in basket.feeds.items() if feed.source == source])
    return _source(basket, source, bool(_signed_in(basket, [source])), asked, lags)


@operations.add(
    "POST",
    "/api/v1/sources/{source}/check",
    "test a source step by step",
    problems=(404,),
)
def check_one_source(source: str) -> list[wire.CheckStep]:
    return inspect_in_process(inspection.check, source)


@operations.add(
    "POST",
    "/api/v1/sources/{source}/setup-sql",
    "the SQL that an administrator has to run for a database source",
    problems=(404,),
)
def setup_sql_of_source(source: str) -> list[wire.SetupStatement]:
    return inspect_in_process(inspection.setup, source)


@operations.add(
    "POST",
    "/api/v1/sources/{source}/survey",
    "list a source's tables with columns, keys, cursors and change methods",
    body=SurveyBody,
    problems=(404, 409, 422, 502),
)
def survey_source(source: str, body: SurveyBody) -> list[wire.SurveyedTable]:
    return inspect_in_process(inspection.surveyed, source, body.match, body.exclude)


@operations.add(
    "POST",
    "/api/v1/sources/{source}/tables/{table}/preview",
    "the first records of a table, with the request and the response",
    body=PreviewBody,
    problems=(404, 409, 422, 502),
)
def preview_table(source: str, table: str, body: PreviewBody) -> wire.Preview:
    return inspect_in_process(inspection.previewed, source, table, body.rows, body.wire)


@operations.add(
    "POST",
    "/api/v1/sources/{source}/preview-files",
    "the first records of a file, or of the first file that matches a pattern",
    body=PreviewFilesBody,
    problems=(404, 409, 422, 502),
)
def preview_files(source: str, body: PreviewFilesBody) -> wire.Preview:
    return inspect_in_process(inspection.previewed, source, body.files, body.rows, exchanges=False)


@operations.add(
    "POST",
    "/api/v1/sources/{source}/sign-in",
    "the address at which a person signs in to the source",
    status=201,
    problems=(404, 409, 422),
)
def sign_in_at_source(source: str) -> wire.SignInRedirect:
    return {"url": inspect_in_process(inspection.source_sign_in_url, source, request.url_root.rstrip("/") + BACK)}


@blueprint.get(BACK)
def back_from_source() -> Response:
    given = request.args
    refused = given.get("error_description") or given.get("error") or ""
    source, why = inspect_in_process(inspection.finish_source_sign_in, given.get("state", ""), given.get("code", ""), refused)
    return redirect(f"{request.script_root}/sources/{quote(source)}{'#' + why if why else ''}", 303)  # type: ignore[return-value]


def _source(basket: Basket, name: str, signed_in: bool, asked: int, lags: Sequence[wire.FollowedLag]) -> wire.Source:
    store = parts().store
    source, order = basket.sources[name], _order(basket, name)
    state = state_of(store, name)
    connector = basket.connectors.get(order.connector) if source.type is None else None
    rests = datetime.fromtimestamp(state.rests_until, UTC) if state.rests_until > datetime.now(UTC).timestamp() else None
    oauth = oauth_of(order.auth)
    person = oauth is not None and oauth.grant == "authorization_code"
    known = {**order.values({}), **{f"settings.{secret}": "•••" for secret in order.secrets}}
    return {
        "name": name,
        "description": source.description or (connector.description if connector else ""),
        "connector": order.connector,
        "database": order.database is not None,
        "files": order.files is not None,
        "base_url": (fill(connector.base_url, known) or "") if connector else source.where,
        "settings": {n: shown(v) if isinstance(v, datetime) else v for n, v in order.settings.items()}
        | {n: {"secret": secret} for n, secret in order.secrets.items()},
        "signs_in": how(order) if connector else ("user and password" if "password" in source.secrets else "none"),
        "person": person,
        "signed_in": signed_in,
        "discover_tables": order.asked is not None,
        "tables": list(connector.tables) if connector else [],
        "feeds": sorted(feed.feed for feed in basket.feeds.values() if feed.source == name),
        "rate_limit": order.rate_limit.model_dump(mode="json"),
        "asked_last_minute": asked,
        "failures": state.failures,
        "lags": [lag for lag in lags if basket.feeds[lag["feed"]].source == name],
        "rests_until": rests.isoformat(timespec="seconds").replace("+00:00", "Z") if rests else None,
    }


def _order(basket: Basket, source: str) -> ResolvedSource:
    return source_order(basket, source, started=datetime.now(UTC))


def _asked(basket: Basket, sources: Sequence[str]) -> list[tuple[str, int]]:
    """[(source, requests of its feeds in the last minute)]."""
    by_feed = requests.since(parts().store, datetime.now(UTC) - timedelta(minutes=1))
    of = {name: feed.source for name, feed in basket.feeds.items()}
    return [(name, sum(count for feed, count in by_feed.items() if of.get(feed) == name)) for name in sources]


def _signed_in(basket: Basket, sources: Sequence[str]) -> set[str]:
    """Where nobody has to sign in, or a token is kept."""
    asked = []
    for name in sources:
        if oauth_of(_order(basket, name).auth) is not None:
            asked.append(name)
    held = inspect_in_process(inspection.signed_in_sources, asked) if asked else []
    return {name for name in sources if name not in asked or name in held}
