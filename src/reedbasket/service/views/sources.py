"""Sources: how they stand, whether they answer, what they offer, and signing in at them."""

from __future__ import annotations

from dataclasses import asdict
from datetime import UTC, datetime
from typing import Annotated, Any
from urllib.parse import quote

from flask import Blueprint, Response, redirect, request
from pydantic import Field

from ... import wire
from ...core.errors import Conflict, NotFound, ReedError
from ...core.extract.http.oauth import begin_errand, client_of, end_errand
from ...core.run.asking import Asking
from ...core.run.file_look import check_files, peek_files, survey_files
from ...core.run.look import check_source, how, peek, survey
from ...core.run.order import RunOrder, SourceOrder, resolve, source_order
from ...core.run.setup_sql import setup_sql
from ...core.run.sql_look import check_database, peek_database, survey_database
from ...core.spec import Basket
from ...core.spec.http import HttpTable
from ...core.spec.model import Source
from ...core.spec.template import fill
from ...store import definitions, tokens
from ...store.pace import state_of
from ..operations import Body
from ..outside import outside_of
from .shared import operations, parts, shown

# Where people come back to from signing in at a source. Open to all: what they bring proves who they are.
BACK = "/signed-in-at-source"
blueprint = Blueprint("sources", __name__)


class SurveyBody(Body):
    match: list[str] = Field(default_factory=list, description="patterns of a database's tables to show; none: all")
    besides: list[str] = Field(default_factory=list, description="patterns of tables to leave out")


class PeekBody(Body):
    rows: Annotated[int, Field(ge=1, le=200)] = 10
    wire: Annotated[bool, Field(description="also what was sent and what came back, secrets blanked")] = False


class PeekFilesBody(Body):
    files: Annotated[str, Field(min_length=1, description="a path, a pattern, or a table that a feed takes from there")]
    rows: Annotated[int, Field(ge=1, le=200)] = 10


@operations.add("GET", "/api/v1/sources", "every source with its connector, settings and pace", answer=list[wire.Source])
def list_sources() -> Any:
    basket = definitions.basket(parts().store)
    return [_source(basket, name) for name in sorted(basket.sources)]


@operations.add("GET", "/api/v1/sources/{source}", "one source", answer=wire.Source, problems=(404,))
def get_source(source: str) -> Any:
    basket = definitions.basket(parts().store)
    _order(basket, source)
    return _source(basket, source)


@operations.add(
    "POST",
    "/api/v1/sources/{source}/check",
    "each step on the way to its records, with its result",
    answer=list[wire.CheckStep],
    problems=(404,),
)
def check_one_source(source: str) -> Any:
    order, tables = _order_and_tables(source)
    outside = outside_of(parts().store, order)
    if order.files is not None:
        return [vars(step) for step in check_files(order, outside, _feeds_of(source))]
    if order.database is not None:
        return [vars(step) for step in check_database(order, outside, _feeds_of(source))]
    return [vars(step) for step in check_source(order, outside, tables)]


@operations.add(
    "POST",
    "/api/v1/sources/{source}/setup-sql",
    "what an administrator has to run so that the source may read what its feeds name",
    answer=list[wire.SetupStatement],
    problems=(404,),
)
def setup_sql_of_source(source: str) -> Any:
    order, _ = _order_and_tables(source)
    return [vars(one) for one in setup_sql(order, outside_of(parts().store, order), _feeds_of(source))]


@operations.add(
    "POST",
    "/api/v1/sources/{source}/survey",
    "its tables, of an API by a sample of each, of a database by its catalog: columns, keys, cursors, how changes can be found",
    answer=list[wire.SurveyedTable],
    body=SurveyBody,
    problems=(404, 409, 422, 502),
)
def survey_source(source: str, body: SurveyBody) -> Any:
    order, tables = _order_and_tables(source)
    if order.files is not None:
        found = survey_files(order, outside_of(parts().store, order), body.match, body.besides)
        return [table.as_dict() for table in found]
    if order.database is not None:
        found = survey_database(order, outside_of(parts().store, order), body.match, body.besides)
        return [table.as_dict() for table in found]
    return [table.as_dict() for table in survey(order, outside_of(parts().store, order), tables)]


@operations.add(
    "POST",
    "/api/v1/sources/{source}/tables/{table}/peek",
    "its first records, and what went over the wire",
    answer=wire.Peek,
    body=PeekBody,
    problems=(404, 409, 422, 502),
)
def peek_at_table(source: str, table: str, body: PeekBody) -> Any:
    return _peeked(source, table, body)


@operations.add(
    "POST",
    "/api/v1/sources/{source}/peek-files",
    "the first records of a file, or of the first that a pattern matches",
    answer=wire.Peek,
    body=PeekFilesBody,
    problems=(404, 409, 422, 502),
)
def peek_at_files(source: str, body: PeekFilesBody) -> Any:
    return _peeked(source, body.files, PeekBody(rows=body.rows))


def _peeked(source: str, table: str, body: PeekBody) -> Any:
    order, tables = _order_and_tables(source)
    if order.database is None and order.files is None and table not in tables:
        raise NotFound(
            "peeking at",
            f"{source}.{table}",
            found=f"tables: {', '.join(tables)}",
            mend="name one of them",
            code="table.not_found",
        )
    outside = outside_of(parts().store, order)
    if order.files is not None:
        found = peek_files(order, outside, table, body.rows, _feeds_of(source))
    elif order.database is not None:
        found = peek_database(order, outside, table, body.rows)
    else:
        found = peek(order, outside, table, tables[table], rows=body.rows, wire=body.wire)
    return {
        "columns": [{"name": name, "type": kind} for name, kind in found.columns],
        "rows": [[shown(value) for value in row] for row in found.rows],
        "rejects": found.rejects,
        "exchanges": [asdict(exchange) for exchange in found.exchanges],
        "note": found.note,
    }


@operations.add(
    "POST",
    "/api/v1/sources/{source}/sign-in",
    "where a person goes to sign in at the source; they come back by themselves",
    answer=wire.SentThere,
    status=201,
    problems=(404, 409, 422),
)
def sign_in_at_source(source: str) -> Any:
    store = parts().store
    order = _order(definitions.basket(store), source)
    if order.auth is None or order.auth.oauth is None or order.auth.oauth.grant != "authorization_code":
        raise Conflict(
            "signing in at",
            source,
            found="its connector shows who asks without a person",
            mend="see `auth` in the connector; only the grant authorization_code wants somebody to sign in",
            code="source.no_person_needed",
        )
    client = Asking(order, outside_of(store, order)).client
    assert client is not None
    back = request.host_url.rstrip("/") + BACK
    errand = begin_errand(client, back)
    tokens.keep_errand(store, source, errand, back)
    return {"url": errand.url}


@blueprint.get(BACK)
def back_from_source() -> Response:
    """A person comes back with a code, or with a reason why not (RFC 6749, 4.1.2)."""
    store = parts().store
    source, verifier, back = tokens.take_errand(store, request.args.get("state", ""))
    order = _order(definitions.basket(store), source)
    outside = outside_of(store, order)
    refused = request.args.get("error_description") or request.args.get("error")
    try:
        if refused or not request.args.get("code"):
            raise Conflict("signing in at", source, found=f"it sent you back: {refused or 'without a code'}", mend="try again")
        asking = Asking(order, outside)
        client = asking.client
        assert client is not None
        outside.vault(client.fingerprint).keep(end_errand(client, request.args["code"], verifier, back, asking.ask_for_token))
        said = ""
    except ReedError as error:
        said = "#" + quote(f"{error.found}. {error.mend}", safe="")
    return redirect(f"/sources/{quote(source)}{said}", 303)  # type: ignore[return-value]


def _source(basket: Basket, name: str) -> dict[str, Any]:
    store = parts().store
    source, order = basket.sources[name], _order(basket, name)
    state = state_of(store, name)
    connector = basket.connectors.get(order.connector) if source.on is None else None
    rests = datetime.fromtimestamp(state.rests_until, UTC) if state.rests_until > datetime.now(UTC).timestamp() else None
    person = bool(order.auth and order.auth.oauth and order.auth.oauth.grant == "authorization_code")
    known = {**order.values({}), **{f"settings.{secret}": "•••" for secret in order.secrets}}
    return {
        "name": name,
        "about": source.about or (connector.about if connector else ""),
        "connector": order.connector,
        "database": order.database is not None,
        "files": order.files is not None,
        "base": (fill(connector.base, known) or "") if connector else place_of(source),
        "settings": {n: shown(v) if isinstance(v, datetime) else v for n, v in order.settings.items()}
        | {n: {"secret": secret} for n, secret in order.secrets.items()},
        "signs_in": how(order) if connector else ("user and password" if source.password else "nothing"),
        "person": person,
        "signed_in": _holds_token(order) if order.auth and order.auth.oauth else True,
        "tables": list(connector.tables) if connector else [],
        "feeds": sorted(feed.feed for feed in basket.feeds.values() if feed.source == name),
        "pace": order.pace.model_dump(mode="json"),
        "failures": state.failures,
        "rests_until": rests.isoformat(timespec="seconds").replace("+00:00", "Z") if rests else None,
    }


def _holds_token(order: SourceOrder) -> bool:
    """Whether a token is kept for just these settings and secrets."""
    assert order.auth is not None and order.auth.oauth is not None
    outside = outside_of(parts().store, order)
    try:
        values = order.values({setting: outside.reveal(name) for setting, name in order.secrets.items()})
    except ReedError:
        return False
    return outside.vault(client_of(order.auth.oauth, values).fingerprint).token() is not None


def _order(basket: Basket, source: str) -> SourceOrder:
    return source_order(basket, source, started=datetime.now(UTC))


def _order_and_tables(source: str) -> tuple[SourceOrder, dict[str, HttpTable]]:
    basket = definitions.basket(parts().store)
    order = _order(basket, source)
    return order, basket.connectors[order.connector].tables if order.database is None and order.files is None else {}


def _feeds_of(source: str) -> list[RunOrder]:
    basket, now = definitions.basket(parts().store), datetime.now(UTC)
    return [
        resolve(basket, name, run=0, version=0, started=now)
        for name, feed in sorted(basket.feeds.items())
        if feed.source == source
    ]


def place_of(source: Source) -> str:
    """Where a database or a store of files is, in a line."""
    if source.url is not None:
        return f"{source.url} at {source.endpoint}" if source.endpoint else source.url
    if source.path is not None:
        return source.path
    return f"{source.user}@{source.host}:{source.server_port}/{source.database}"
