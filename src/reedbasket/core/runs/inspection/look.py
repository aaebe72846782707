"""Inspecting an API before anything is loaded: whether it answers, which tables it has, and what their records look like."""

from __future__ import annotations

import json
import ssl
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass, field
from typing import Any
from urllib.parse import urlsplit

import pyarrow as pa

from ... import errors
from ...check_steps import CheckStep, reach, walked
from ...records.structure import ColumnShape, ObjectShape
from ...shaping import Shaper, TableShape
from ...sources.python.host import CodeHost
from ...sources.python.reader import settings_in
from ...sources.requests_seen import Exchange
from ...spec.auth import OAuth2Auth
from ...spec.http import HttpTable
from ...spec.python_runtime import Code
from ..execution.http_table_reader import HttpTableReader
from ..planning.discovered_tables import discover_tables
from ..planning.order import ResolvedSource
from ..request_context import RequestContext, RunContext
from .sampling import sampling

# The source answered, and it is what it answered that is not right.
_OF_RECORDS = (
    errors.RecordsNotFound,
    errors.BodyUnreadable,
    errors.FieldNotFound,
    errors.UnexpectedPage,
    errors.Incomplete,
    errors.PagesLooped,
)
_OF_SIGN_IN = (errors.SignInFailed, errors.SignInNeeded, errors.CredentialsRefused, errors.SourceForbidden)
STEPS = ("secrets", "name", "port", "TLS", "sign-in", "answer", "records")
STEPS_OF_CODE = ("secrets", "code", "check", "records")
# Pages of a survey's sample, and records; more would ask a live source for what nobody reads.
_PAGES = 2
_MOST_RECORDS = 1_000
_EXAMPLES = 3


def check_source(order: ResolvedSource, context: RunContext, tables: Mapping[str, HttpTable]) -> list[CheckStep]:
    """Check each step on the way to the source's first table."""
    if order.code is not None:
        steps = STEPS_OF_CODE if order.asked is None else (*STEPS_OF_CODE[:-1], "tables", STEPS_OF_CODE[-1])
        return walked(_steps_of_code(order, context, tables, order.code), steps)
    return walked(_steps(order, context, tables), STEPS)


def _steps_of_code(
    order: ResolvedSource, context: RunContext, tables: Mapping[str, HttpTable], code: Code
) -> Iterator[CheckStep]:
    step = "secrets"
    try:
        asking = RequestContext(order, context)
        yield CheckStep(step, True, f"{len(order.secrets)} set" if order.secrets else "none needed")
    except errors.ReedError as error:
        yield CheckStep(step, False, f"{error.found}: {error.on}", error.fix)
        return
    said: list[str] = []
    try:
        with sampling(order, asking) as sampler:
            host = CodeHost(
                code,
                doing="checking",
                mask=asking.mask,
                stop=context.stop,
                base=asking.base_url,
                send=lambda request, good: sampler.sender.send(request, "checking", good),
                told=lambda _level, _code, words: said.append(words),
            )
            step = "code"
            found = host.describe()
            known = "the source lists its tables" if order.asked is not None else f"tables: {', '.join(found['tables'])}"
            yield CheckStep(step, True, f"{code.entry} loads; {known}")
            if host.lacking:
                yield CheckStep(
                    "confined", None, f"this system cannot confine a connector's access to {' and '.join(host.lacking)}"
                )
            else:
                yield CheckStep(
                    "confined",
                    True,
                    "only files of Python, of the system and its scratch folder; no network, no other processes",
                )
            step = "check"
            host.check(settings_in(asking.values))
            yield CheckStep(step, True, said[-1] if said else "the connector found nothing wrong")
            if order.asked is not None:
                step = "tables"
                tables = discover_tables(order, asking, sampler.sender)
                yield CheckStep(step, True, f"{len(tables)}: {', '.join(list(tables)[:20])}")
            step = "records"
            name = next(iter(tables), None)
            if name is None:
                yield CheckStep(step, True, "the source has no table")
                return
            _, chunks = sampler.reader(name, tables[name]).sample()
            count = next((len(chunk.records) for chunk in chunks if chunk.records), 0)
            yield CheckStep(step, True, f"{count} in the first part of {name}" if count else f"none in {name}")
    except errors.ReedError as error:
        asking.mask.error(error)
        yield CheckStep(step, False, f"{error.found} [{error.code}]", error.fix)


def _steps(order: ResolvedSource, context: RunContext, tables: Mapping[str, HttpTable]) -> Iterator[CheckStep]:
    try:
        asking = RequestContext(order, context)
        held = f"{len(order.secrets)} set" if order.secrets else "none needed"
        yield CheckStep("secrets", True, held)
    except errors.ReedError as error:
        yield CheckStep("secrets", False, f"{error.found}: {error.on}", error.fix)
        return
    if context.tape is None or context.tape.way == "record":
        yield from _way_there(asking.base_url, order.timeouts.connect)
    try:
        with sampling(order, asking) as sampler:
            asking.signs_in()
            yield CheckStep("sign-in", True, how(order))
            name = next((n for n, rule in tables.items() if rule.parent_table is None), next(iter(tables)))
            _, chunks = sampler.reader(name, tables[name]).sample()
            try:
                chunk = next(chunks, None)
            except _OF_RECORDS as error:
                yield CheckStep("answer", True, f"it answered for {name}")
                yield CheckStep("records", False, asking.mask.text(error.found), error.fix)
                return
            yield CheckStep("answer", True, f"it answered for {name}")
            count = len(chunk.records) if chunk else 0
            yield CheckStep("records", True, f"{count or 'none'} on the first page of {name}")
    except errors.ReedError as error:
        asking.mask.error(error)
        signing = isinstance(error, _OF_SIGN_IN)
        refused = signing or error.code.startswith("source.signer")
        yield CheckStep("sign-in" if refused else "answer", False, f"{error.found} [{error.code}]", error.fix)


def _way_there(base: str, seconds: float) -> Iterator[CheckStep]:
    address = urlsplit(base)
    host, secure = address.hostname or "", address.scheme == "https"
    yield from reach(host, address.port or (443 if secure else 80), "the URL in the settings", seconds)
    yield _tls(host, address.port or 443, seconds) if secure else CheckStep("TLS", True, "not used: http://")


def _tls(host: str, port: int, seconds: float) -> CheckStep:
    import socket

    try:
        with (
            socket.create_connection((host, port), timeout=seconds) as plain,
            ssl.create_default_context().wrap_socket(plain, server_hostname=host) as made,
        ):
            return CheckStep("TLS", True, f"{made.version()}, the certificate is valid")
    except ssl.SSLCertVerificationError as error:
        fix = "check that the certificate is for this name and has not expired; SSL_CERT_FILE names more authorities to trust"
        return CheckStep("TLS", False, error.verify_message, fix)
    except OSError as error:
        return CheckStep("TLS", False, str(error), "check that the server uses TLS on this port, or use http://")


def how(order: ResolvedSource) -> str:
    """How requests are authenticated, in words."""
    auth = order.auth
    if auth is None:
        return "none"
    if isinstance(auth, OAuth2Auth):
        return f"OAuth 2, {auth.grant.replace('_', ' ')}"
    ways = {"bearer": "bearer token", "basic": "user and password", "api_key": "API key", "signer": "signed requests"}
    return ways[auth.type]


@dataclass
class SurveyedColumn:
    """One column of a sample.

    Attributes:
        nulls: how many of the sample are null; None if no sample was taken.
        distinct: how many different values the sample has; None if no sample was taken.
        examples: as text.
        declared: the database's own type.
    """

    name: str
    type: str
    nulls: int | None
    distinct: int | None
    examples: list[str]
    declared: str = ""
    nullable: bool = True


@dataclass
class Method:
    """One way of finding a table's changes.

    Attributes:
        misses: what it does not see, or what it costs.
    """

    by: str
    misses: str


@dataclass
class SurveyedTable:
    """What a table looks like, from a sample of its records.

    Attributes:
        records: the size of the sample.
        total: the number of records according to the source.
        key: as the connector declares it.
        keys: columns that could be the key: each value occurs once, and none is missing.
        cursor: as the connector declares it.
        cursors: columns that could be the cursor.
        lists: lists that would become child tables.
        what: table or view, of a database.
        indexed: columns that an index begins with, of a database.
        methods: the ways in which changes can be found, of a database.
    """

    table: str
    description: str
    request: str = ""
    records: int = 0
    total: int | None = None
    columns: list[SurveyedColumn] = field(default_factory=list)
    lists: list[str] = field(default_factory=list)
    key: list[str] = field(default_factory=list)
    keys: list[str] = field(default_factory=list)
    cursor: str | None = None
    cursors: list[str] = field(default_factory=list)
    parent: str | None = None
    what: str = "endpoint"
    readable: bool = True
    indexed: list[str] = field(default_factory=list)
    methods: list[Method] = field(default_factory=list)
    error: dict[str, Any] | None = None

    def as_dict(self) -> dict[str, Any]:
        """{field: value}, for JSON."""
        return asdict(self)


def survey(order: ResolvedSource, context: RunContext, tables: Mapping[str, HttpTable]) -> list[SurveyedTable]:
    """A sample of every table. An error of one table is kept with that table.

    Raises:
        ReedError: the source as a whole cannot be read.
    """
    asking = RequestContext(order, context)
    found = []
    with sampling(order, asking) as sampler:
        for name, rule in tables.items():
            cursor = rule.cursor.column if rule.cursor else None
            table = SurveyedTable(name, rule.description, key=rule.primary_key or [], cursor=cursor, parent=rule.parent_table)
            found.append(table)
            try:
                _look(table, sampler.reader(name, rule))
            except errors.ReedError as error:
                table.error = asking.mask.error(error).as_dict()
    return found


def structure_names(structure: TableShape) -> dict[str, str]:
    """{column: the field's name as a definition needs it}; fields inside objects are written with dots."""
    found: dict[str, str] = {}

    def walk(shape: ObjectShape, path: tuple[str, ...]) -> None:
        for name, node in shape.fields.items():
            if isinstance(node, ObjectShape):
                walk(node, (*path, name))
            elif isinstance(node, ColumnShape):
                found[node.name] = ".".join((*path, name))

    walk(structure.root, ())
    return found


def _look(table: SurveyedTable, reader: HttpTableReader) -> None:
    table.request, chunks = reader.sample()
    shaper, records = Shaper(TableShape(table.table), [], "row"), list[dict[str, Any]]()
    misfits: list[Any] = []
    for page, chunk in enumerate(chunks, 1):
        table.total = chunk.total if table.total is None else table.total
        records += chunk.records
        misfits += chunk.misfits
        if page == _PAGES or len(records) >= _MOST_RECORDS:
            break
    table.records = len(records)
    if misfits and not records:
        raise errors.RecordsNotFound(
            "looking at",
            table.table,
            found=f"the list has {len(misfits)} items, none of which is an object; the first "
            f"is {json.dumps(misfits[0], default=str)[:200]}",
            fix="point `records` at a list of objects; a list of lists needs a connector in Python",
        )
    shaped = shaper.shape(records, 0)
    if not shaped.records:
        return
    fields = structure_names(shaper.structure)
    batch, structure = shaped.batches[0], shaper.structure
    kinds = {column.name: column.kind for column in shaper.family.root.columns}
    for name, (_, data) in batch.columns.items():
        values = listed(data)
        present = [v for v in values if v is not None]
        distinct = len(set(map(repr, present)))
        examples = list(dict.fromkeys(_shown(v) for v in present))[:_EXAMPLES]
        table.columns.append(SurveyedColumn(name, kinds.get(name, "text"), len(values) - len(present), distinct, examples))
        whole = len(present) == len(values) and len(values) > 1
        if whole and distinct == len(values) and kinds.get(name) in ("int64", "text", "uuid"):
            table.keys.append(fields.get(name, name))
        if whole and (kinds.get(name) == "timestamp" or (kinds.get(name) == "int64" and values == sorted(values))):
            table.cursors.append(fields.get(name, name))
    table.keys.sort(key=lambda name: not name.endswith(("id", "key", "code")))
    table.lists = [child.name.removeprefix(f"{table.table}_") for child in structure.children()]


@dataclass
class Previewed:
    """Records as rows.

    Attributes:
        columns: [(name, type)].
        rows: one list of values for each record.
        exchanges: the requests and answers, if they were asked for.
        note: of a file: which file it is, and how it was read.
    """

    columns: Sequence[tuple[str, str]]
    rows: list[list[Any]]
    rejects: list[str]
    exchanges: list[Exchange]
    note: str = ""


def preview(order: ResolvedSource, context: RunContext, name: str, rule: HttpTable, *, rows: int, wire: bool) -> Previewed:
    """The first records of a table, from its latest window.

    Args:
        wire: keep the requests and answers.

    Raises:
        ReedError: the table cannot be read; its details hold the exchanges so far, if they were asked for.
    """
    asking = RequestContext(order, context)
    exchanges: list[Exchange] = []
    records: list[dict[str, Any]] = []
    try:
        with sampling(order, asking, attempts=1, wire=exchanges.append if wire else None) as sampler:
            _, chunks = sampler.reader(name, rule).sample()
            for chunk in chunks:
                records += chunk.records
                if len(records) >= rows or not chunk.records:
                    break
    except errors.ReedError as error:
        asking.mask.error(error)
        if wire:
            error.details = {"exchanges": [asdict(exchange) for exchange in exchanges]}
        raise
    shaper = Shaper(TableShape(name), [], "row")
    shaped = shaper.shape(records[:rows], 0)
    columns = [(column.name, column.kind) for column in shaper.family.root.columns]
    held = shaped.batches[0].columns if shaped.batches else {}
    lists = [listed(held[n][1]) if n in held else [None] * shaped.records for n, _ in columns]
    return Previewed(columns, [list(row) for row in zip(*lists)], [reject.message for reject in shaped.rejects], exchanges)


def listed(data: Any) -> list[Any]:
    """A column's values as a list, in whatever form they are."""
    values: list[Any] = data.to_pylist() if isinstance(data, pa.Array | pa.ChunkedArray) else list(data)
    return values


def _shown(value: Any) -> str:
    if isinstance(value, bool):
        return "true" if value else "false"
    text = value.isoformat() if hasattr(value, "isoformat") else str(value)
    return text if len(text) <= 40 else text[:39] + "…"
