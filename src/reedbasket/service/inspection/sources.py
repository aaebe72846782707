"""Inspecting sources: whether they answer, what they have; and signing in at them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict
from datetime import UTC, datetime
from urllib.parse import quote

from ... import wire
from ...core.errors import Conflict, ReedError, no_such_table
from ...core.runs.inspection.database_look import check_database, preview_database, survey_database
from ...core.runs.inspection.file_look import check_files, preview_files, survey_files
from ...core.runs.inspection.look import check_source, preview, survey
from ...core.runs.inspection.setup_sql import setup_sql
from ...core.runs.inspection.trial import try_table
from ...core.runs.planning.discovered_tables import tables_at
from ...core.runs.planning.order import ResolvedRun, ResolvedSource, resolve, source_order
from ...core.runs.request_context import RequestContext, RunContext
from ...core.sources.http.oauth import begin_sign_in, client_of, finish_sign_in
from ...core.spec import Basket
from ...core.spec.auth import oauth_of
from ...core.spec.http import HttpTable
from ...store import Store, definitions, tokens
from ...wire.typed import typed
from ..run_context import run_context_of
from .drafts import basket_of
from .values import shown


def check(store: Store, source: str, draft: str = "") -> list[wire.CheckStep]:
    """Each step of connecting to a source."""
    basket = basket_of(store, draft)
    order = _order(basket, source)
    context = run_context_of(store, order)
    if order.files is not None:
        return [typed(wire.CheckStep, vars(step)) for step in check_files(order, context, _feeds_of(basket, source))]
    if order.database is not None:
        return [typed(wire.CheckStep, vars(step)) for step in check_database(order, context, _feeds_of(basket, source))]
    return [
        typed(wire.CheckStep, vars(step)) for step in check_source(order, context, basket.connectors[order.connector].tables)
    ]


def setup(store: Store, source: str, draft: str = "") -> list[wire.SetupStatement]:
    """What an administrator has to run for it."""
    basket = basket_of(store, draft)
    order = _order(basket, source)
    return [
        typed(wire.SetupStatement, vars(one))
        for one in setup_sql(order, run_context_of(store, order), _feeds_of(basket, source))
    ]


def surveyed(
    store: Store, source: str, match: Sequence[str], exclude: Sequence[str], draft: str = ""
) -> list[wire.SurveyedTable]:
    """The source's tables."""
    basket = basket_of(store, draft)
    order = _order(basket, source)
    context = run_context_of(store, order)
    tables = _tables(basket, order, context)
    if order.files is not None:
        return [typed(wire.SurveyedTable, table.as_dict()) for table in survey_files(order, context, match, exclude)]
    if order.database is not None:
        return [typed(wire.SurveyedTable, table.as_dict()) for table in survey_database(order, context, match, exclude)]
    return [typed(wire.SurveyedTable, table.as_dict()) for table in survey(order, context, tables)]


def previewed(store: Store, source: str, table: str, rows: int, exchanges: bool, draft: str = "") -> wire.Preview:
    """The first records of a table."""
    basket = basket_of(store, draft)
    order = _order(basket, source)
    context = run_context_of(store, order)
    tables = _tables(basket, order, context)
    if order.database is None and order.files is None and table not in tables:
        raise no_such_table("previewing", f"{source}.{table}", f"tables: {', '.join(tables)}")
    if order.files is not None:
        found = preview_files(order, context, table, rows, _feeds_of(basket, source))
    elif order.database is not None:
        found = preview_database(order, context, table, rows)
    else:
        found = preview(order, context, table, tables[table], rows=rows, wire=exchanges)
    return {
        "columns": [{"name": name, "type": kind} for name, kind in found.columns],
        "rows": [[shown(value) for value in row] for row in found.rows],
        "rejects": found.rejects,
        "exchanges": [typed(wire.Exchange, asdict(exchange)) for exchange in found.exchanges],
        "note": found.note,
    }


def tried(store: Store, source: str, table: str, pages: int, draft: str = "") -> wire.TrialResult:
    """The first pages of an API's table: see core.runs.inspection.trial."""
    basket = basket_of(store, draft)
    order = _order(basket, source)
    context = run_context_of(store, order)
    tables = _tables(basket, order, context)
    if table not in tables:
        raise no_such_table(
            "trying", f"{source}.{table}", f"tables of its connector: {', '.join(tables) or 'none, because it is not an API'}"
        )
    found = try_table(order, context, table, tables[table], pages=pages)
    columns = [{"name": name, "type": kind} for name, kind in found.columns]
    return typed(wire.TrialResult, asdict(found), columns=columns, rows=[[shown(value) for value in row] for row in found.rows])


def source_sign_in_url(store: Store, source: str, back: str) -> str:
    """Where a person goes to sign in; they come back to `back`."""
    order = _order(definitions.basket(store), source)
    oauth = oauth_of(order.auth)
    if oauth is None or oauth.grant != "authorization_code":
        raise Conflict(
            "signing in at",
            source,
            found="its connector does not need a person to sign in",
            fix="see `auth` in the connector; only the grant authorization_code needs a person to sign in",
            code="source.sign_in_not_needed",
        )
    client = RequestContext(order, run_context_of(store, order)).client
    assert client is not None
    errand = begin_sign_in(client, back)
    tokens.save_sign_in(store, source, errand, back)
    return errand.url


def finish_source_sign_in(store: Store, state: str, code: str, refused: str) -> tuple[str, str]:
    """(source, why it failed): a person comes back with a code, or with a reason why there is none (RFC 6749, 4.1.2).

    Raises:
        NotFound: no such sign-in has begun.
    """
    source, verifier, back = tokens.take_sign_in(store, state)
    try:
        order = _order(definitions.basket(store), source)
        context = run_context_of(store, order)
        if refused or not code:
            raise Conflict("signing in at", source, found=f"it sent you back {refused or 'without a code'}", fix="try again")
        asking = RequestContext(order, context)
        client = asking.client
        assert client is not None
        context.vault(client.fingerprint).keep(finish_sign_in(client, code, verifier, back, asking.ask_for_token))
    except ReedError as error:
        return source, quote(f"{error.found}. {error.fix}", safe="")
    return source, ""


def signed_in_sources(store: Store, sources: Sequence[str]) -> list[str]:
    """Those sources for whose present settings and secrets a token is stored."""
    return [source for source in sources if _holds_token(store, source)]


def _holds_token(store: Store, source: str) -> bool:
    order = _order(definitions.basket(store), source)
    oauth = oauth_of(order.auth)
    if oauth is None:
        return True
    context = run_context_of(store, order)
    try:
        values = order.values({setting: context.reveal(name) for setting, name in order.secrets.items()})
    except ReedError:
        return False
    return context.vault(client_of(oauth, values).fingerprint).token() is not None


def _order(basket: Basket, source: str) -> ResolvedSource:
    return source_order(basket, source, started=datetime.now(UTC))


def _tables(basket: Basket, order: ResolvedSource, context: RunContext) -> dict[str, HttpTable]:
    """Of an API; asked of the source where only it knows."""
    if order.database is not None or order.files is not None:
        return {}
    return tables_at(order, context) if order.asked is not None else basket.connectors[order.connector].tables


def _feeds_of(basket: Basket, source: str) -> list[ResolvedRun]:
    now = datetime.now(UTC)
    return [
        resolve(basket, name, run=0, version=0, started=now)
        for name, feed in sorted(basket.feeds.items())
        if feed.source == source
    ]
