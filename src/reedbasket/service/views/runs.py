"""Runs: start one, watch it, cancel it, inspect it."""

from __future__ import annotations

import time
from collections.abc import Iterator
from datetime import UTC, datetime
from typing import Annotated, Any

import orjson
from flask import Response
from pydantic import Field

from ... import wire
from ...core.runs import resolve
from ...core.runs.planning.secret_hosts import servers
from ...store import definitions, journal, requests, runs
from ..operations import Body, Query
from ..problems import BadRequest, Forbidden
from .access import MAY_SET_SECRETS
from .feeds import require_feed
from .shared import caller, noted, operations, parts
from .streams import LONGEST_STREAM_SECONDS, QUIET_SECONDS, event, streamed

_ACTIVE = ("queued", "running")
_LINES_AT_ONCE = 500


class RunParameters(Body):
    """Which feed to run, and how."""

    feed: str
    allow_loss: Annotated[bool, Field(description="drop what a changed write mode cannot keep; `plan` names it")] = False
    replay: Annotated[bool, Field(description="load the feed's rejects again instead of reading the source")] = False
    sets: Annotated[
        dict[str, str | int | float | bool],
        Field(
            description="overrides values of the variant and settings, for this run only; saved cursors are neither used nor moved"
        ),
    ] = Field(default_factory=dict)
    extract: Annotated[bool, Field(description="all of its records become files instead of rows; see /api/v1/extracts")] = False
    bodies: Annotated[
        bool, Field(description="record what its first thousand requests send and receive, with secrets masked")
    ] = False
    wait_seconds: Annotated[float, Field(ge=0, le=55, description="wait this many seconds for the run to end")] = 0


class ListRuns(Query):
    """Which runs."""

    feed: str | None = None
    before: Annotated[int, Field(ge=1, le=2**53)] | None = None
    limit: Annotated[int, Field(ge=1, le=500)] = 50


class Wait(Query):
    """For how long to wait."""

    wait_seconds: Annotated[float, Field(ge=0, le=55, description="wait this many seconds for the run to end")] = 0


class LogPart(Query):
    """Which lines of the log."""

    after: Annotated[int, Field(ge=0, le=2**53)] = 0
    limit: Annotated[int, Field(ge=1, le=5000)] = 500


class RequestsPart(LogPart):
    """Which requests."""

    failed: Annotated[bool, Field(description="only those that failed")] = False


@operations.add("GET", "/api/v1/runs", "list runs, newest first", query=ListRuns)
def list_runs(query: ListRuns) -> list[wire.Run]:
    return runs.latest(parts().store, feed=query.feed, before=query.before, limit=query.limit)


@operations.add("POST", "/api/v1/runs", "run a feed", status=201, body=RunParameters, problems=(404, 409))
def ask_run(body: RunParameters) -> wire.Run:
    store = parts().store
    require_feed(definitions.basket(store), body.feed)
    more = ""
    if body.sets:
        _require_known(body.feed, body.sets)
        more = _sends_secrets_elsewhere(body.feed, body.sets)
    noted(body.feed + more)
    version = definitions.feed_version(store, body.feed)
    sets = dict(body.sets) or None
    run = parts().workers.ask(
        runs.RunRequest(
            body.feed,
            version,
            allow_loss=body.allow_loss,
            replay=body.replay,
            asked_by=caller().name,
            sets=sets,
            bodies=body.bodies,
            extract=body.extract,
        )
    )
    return _waited(run, body.wait_seconds)


@operations.add("GET", "/api/v1/runs/{run}", "one run and its tables", query=Wait, problems=(404,))
def get_run(run: int, query: Wait) -> wire.Run:
    return _waited(run, query.wait_seconds)


@operations.add("POST", "/api/v1/runs/{run}/cancel", "cancel a run", problems=(404, 409))
def cancel_run(run: int) -> wire.Run:
    parts().workers.cancel(run)
    return runs.get(parts().store, run)


@operations.add("GET", "/api/v1/runs/{run}/log", "a run's log, in order", query=LogPart, problems=(404,))
def run_log(run: int, query: LogPart) -> list[wire.LogLine]:
    runs.outcome(parts().store, run)
    return journal.read_log(parts().store, run, after=query.after, limit=query.limit)


@operations.add(
    "GET",
    "/api/v1/runs/{run}/requests",
    "a run's requests, in order, for as long as they are kept",
    query=RequestsPart,
    problems=(404,),
)
def run_requests(run: int, query: RequestsPart) -> list[wire.RequestLine]:
    runs.outcome(parts().store, run)
    return requests.read(parts().store, run, after=query.after, limit=query.limit, failed=query.failed)


@operations.add(
    "GET",
    "/api/v1/runs/{run}/requests.ndjson",
    "a run's requests as NDJSON",
    answer=str,
    problems=(404,),
    stream="application/x-ndjson",
)
def run_requests_file(run: int) -> Response:
    store = parts().store
    runs.outcome(store, run)
    lines = (b"".join(orjson.dumps(line) + b"\n" for line in some) for some in requests.read_all(store, run))
    headers = {"Content-Disposition": f'attachment; filename="run-{run}-requests.ndjson"'}
    return Response(lines, content_type="application/x-ndjson", headers=headers)


@operations.add(
    "GET",
    "/api/v1/runs/{run}/requests/{number}",
    "the recorded request and response, where they were kept",
    problems=(404,),
)
def run_request(run: int, number: int) -> wire.Exchange:
    runs.outcome(parts().store, run)
    return requests.exchange(parts().store, run, number)


@operations.add("GET", "/api/v1/runs/{run}/pace", "a run's progress over time", problems=(404,))
def run_pace(run: int) -> list[wire.PaceSample]:
    runs.outcome(parts().store, run)
    return [{"seconds": at, "read": int(read), "bytes": int(size)} for at, read, size in runs.pace(parts().store, run)]


@operations.add("GET", "/api/v1/runs/{run}/ledger", "a run's loads", problems=(404,))
def run_ledger(run: int) -> list[wire.LedgerLine]:
    runs.outcome(parts().store, run)
    return journal.read_ledger(parts().store, run=run)


@operations.add(
    "GET",
    "/api/v1/runs/{run}/events",
    "live: `run` events with the run, `log` events with new lines, `end` at the end",
    answer=str,
    query=LogPart,
    problems=(404, 503),
    stream="text/event-stream",
)
def run_events(run: int, query: LogPart) -> Response:
    runs.outcome(parts().store, run)
    return streamed(f"run {run}", lambda: _events(run, query.after))


def _require_known(feed: str, sets: dict[str, Any]) -> None:
    """Check that what is set for a run is a value of the feed's variant, or a setting of its source that is not a secret."""
    basket = definitions.basket(parts().store)
    definition = basket.feeds[feed]
    source = basket.sources[definition.source]
    known = set(definition.variant) | set(source.settings)
    if source.connector is not None:
        settings = basket.connectors[source.connector].settings
        known = (known | set(settings)) - {name for name, setting in settings.items() if setting.type == "secret"}
    unknown = sorted(set(sets) - known)
    if unknown:
        raise BadRequest(
            "starting a run of",
            feed,
            found=f"there is no setting {', '.join(unknown)}",
            fix=f"there {'is' if len(known) == 1 else 'are'} {', '.join(sorted(known)) or 'none'}",
            code="run.unknown_setting",
        )


def _sends_secrets_elsewhere(feed: str, sets: dict[str, Any]) -> str:
    """What the audit log has to say about it; '' if the run's secrets go where they always go.

    Raises:
        Forbidden: they would be sent to another server, and the caller may not set secrets.
    """
    basket, now = definitions.basket(parts().store), datetime.now(UTC)
    usual, changed = (resolve(basket, feed, run=0, version=0, started=now, sets=given) for given in (None, sets))
    others = sorted(servers(changed) - servers(usual))
    if not others or not changed.secrets:
        return ""
    told = f"{', '.join(sorted(changed.secrets.values()))} would be sent to {', '.join(others)}"
    if not caller().may(MAY_SET_SECRETS):
        raise Forbidden(
            "starting a run of",
            feed,
            found=f"with these settings {told}, and its definitions say {', '.join(sorted(servers(usual)))}",
            fix=f"this needs the role {MAY_SET_SECRETS}; or let an editor apply a source with that address and its own secret",
            code="secret.other_server",
        )
    return f": {told}"


def _events(run: int, after: int) -> Iterator[bytes]:
    """The id is the last log line."""
    own = parts()
    ends = time.monotonic() + LONGEST_STREAM_SECONDS
    last_state: wire.Run | None = None
    while time.monotonic() < ends and not own.closing:
        seen = own.workers.signal.count()
        state = runs.get(own.store, run)
        lines = journal.read_log(own.store, run, after=after, limit=_LINES_AT_ONCE)
        if lines:
            after = lines[-1]["number"]
            yield event("log", lines, after)
        if state != last_state:
            last_state = state
            yield event("run", state, after)
        if len(lines) == _LINES_AT_ONCE:
            continue
        if state["outcome"] not in _ACTIVE:
            # The end stands in the store before the last lines were read, so nothing comes after it.
            yield event("end", {"outcome": state["outcome"]}, after)
            return
        if own.workers.signal.wait(seen, QUIET_SECONDS) == seen:
            yield b": still here\n\n"


_SHORT_SECONDS = 0.5


def _waited(run: int, seconds: float) -> wire.Run:
    own, who = parts(), caller().name
    with own.slow.held(who) as found:
        # Where too many wait already, whoever asks is answered at once, as of now, and may ask again.
        ends = time.monotonic() + (min(seconds, _SHORT_SECONDS) if found else seconds)
        return _at_its_end(run, ends)


def _at_its_end(run: int, ends: float) -> wire.Run:
    own = parts()
    while True:
        seen = own.workers.signal.count()
        outcome = runs.outcome(own.store, run)
        rest = ends - time.monotonic()
        if outcome not in _ACTIVE or rest <= 0 or own.closing:
            return runs.get(own.store, run)
        own.workers.signal.wait(seen, min(rest, 5.0))
