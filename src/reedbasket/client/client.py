"""Every call of the service, typed."""

from __future__ import annotations

import http.client
import json
from collections.abc import Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from .caller import Caller

if TYPE_CHECKING:
    from .. import wire


class Client:
    """One service. Calls raise ServiceProblem for what it refuses, ServiceUnreachable where nothing answers."""

    def __init__(self, url: str, token: str) -> None:
        self._caller = Caller(url, token)
        self._call = self._caller.call
        self.url = self._caller.url

    def __repr__(self) -> str:
        return f"Client({self.url!r})"

    # Definitions and secrets

    def health(self) -> wire.Health:
        return self._call("GET", "/healthz")

    def apply(
        self,
        files: Mapping[str, str],
        *,
        only_check: bool = False,
        prune: bool = False,
        settings: Mapping[str, str] | None = None,
    ) -> list[wire.Applied]:
        """Apply a basket: {file name: YAML text}. With mistakes nothing is applied; they stand in the problem's details.

        only_check: say what would change. prune: remove what the basket does not hold. settings: files of this environment.
        """
        body = {"files": dict(files), "only_check": only_check, "prune": prune, "settings": dict(settings or {})}
        return self._call("POST", "/api/v1/basket", body=body)

    def export(self) -> dict[str, str]:
        """{file: YAML}, as it was applied."""
        return self._call("GET", "/api/v1/basket")

    def versions(self, kind: str, name: str) -> list[wire.Version]:
        return self._call("GET", f"/api/v1/definitions/{_part(kind)}/{_part(name)}/versions")

    def revert(self, kind: str, name: str, version: int) -> wire.Applied:
        return self._call("POST", f"/api/v1/definitions/{_part(kind)}/{_part(name)}/revert", body={"version": version})

    def definitions(self) -> list[wire.Definition]:
        return self._call("GET", "/api/v1/definitions")

    def definition(self, kind: str, name: str) -> wire.Definition:
        return self._call("GET", f"/api/v1/definitions/{_part(kind)}/{_part(name)}")

    def schema(self) -> dict[str, Any]:
        """JSON Schema of definitions."""
        return self._call("GET", "/api/v1/schema")

    def openapi(self) -> dict[str, Any]:
        return self._call("GET", "/api/v1/openapi.json")

    def secrets(self) -> list[wire.SecretName]:
        return self._call("GET", "/api/v1/secrets")

    def set_secret(self, name: str, value: str) -> None:
        self._call("PUT", f"/api/v1/secrets/{_part(name)}", body={"value": value})

    def remove_secret(self, name: str) -> None:
        self._call("DELETE", f"/api/v1/secrets/{_part(name)}")

    def rotate_secrets(self) -> wire.Counted:
        """Seal all of them with a new key."""
        return self._call("POST", "/api/v1/secret-key/rotate")

    # People

    def who_am_i(self) -> wire.Session:
        return self._call("GET", "/api/v1/session")

    def users(self) -> list[wire.User]:
        return self._call("GET", "/api/v1/users")

    def add_user(self, name: str, role: wire.Role, password: str | None = None) -> None:
        self._call("POST", "/api/v1/users", body={"name": name, "role": role, "password": password})

    def change_user(self, name: str, **change: Any) -> None:
        """role, password, disabled."""
        self._call("PUT", f"/api/v1/users/{_part(name)}", body=change)

    def remove_user(self, name: str) -> None:
        self._call("DELETE", f"/api/v1/users/{_part(name)}")

    def tokens(self) -> list[wire.Token]:
        return self._call("GET", "/api/v1/tokens")

    def make_token(self, label: str, role: wire.Role, *, days: int | None = None) -> wire.NewToken:
        """Shown here, and never again."""
        return self._call("POST", "/api/v1/tokens", body={"label": label, "role": role, "days": days})

    def remove_token(self, token: str) -> None:
        self._call("DELETE", f"/api/v1/tokens/{_part(token)}")

    def audit(self, *, before: int | None = None, limit: int = 100) -> list[wire.AuditLine]:
        return self._call("GET", "/api/v1/audit", query={"before": before, "limit": limit})

    def sign_in_code(self) -> wire.SignInCode:
        """A one-use link into the console."""
        return self._call("POST", "/api/v1/sign-in-codes")

    # Drafts: looks with definitions that are not in force, as YAML

    def check_draft(self, draft: str, source: str) -> list[wire.CheckStep]:
        return self._call("POST", "/api/v1/draft/check", body={"draft": draft, "source": source})

    def survey_draft(self, draft: str, source: str) -> list[wire.SurveyedTable]:
        return self._call("POST", "/api/v1/draft/survey", body={"draft": draft, "source": source})

    def try_draft(self, draft: str, source: str, table: str, *, pages: int = 1) -> wire.Tried:
        """Ask an API for the first pages of a table, and see what the answer suggests."""
        return self._call("POST", "/api/v1/draft/try", body={"draft": draft, "source": source, "table": table, "pages": pages})

    def plan_draft(self, draft: str, feed: str) -> wire.Plan:
        return self._call("POST", "/api/v1/draft/plan", body={"draft": draft, "feed": feed})

    # Feeds

    def feeds(self) -> list[wire.Feed]:
        return self._call("GET", "/api/v1/feeds")

    def change_setting(self, name: str, value: int | None) -> list[wire.Setting]:
        """For how many days something is kept; None: as the service was started."""
        return self._call("PUT", f"/api/v1/settings/{_part(name)}", body={"value": value})

    def settings(self) -> list[wire.Setting]:
        """What the service was started with."""
        return self._call("GET", "/api/v1/settings")

    def activity(self, hours: int = 24) -> wire.Activity:
        """What came in during the last hours, at most 168."""
        return self._call("GET", f"/api/v1/activity?hours={hours}")

    def feed(self, name: str) -> wire.Feed:
        return self._call("GET", f"/api/v1/feeds/{_part(name)}")

    def plan(self, feed: str) -> wire.Plan:
        return self._call("POST", f"/api/v1/feeds/{_part(feed)}/plan")

    def ledger(self, feed: str, *, limit: int = 200) -> list[wire.LedgerLine]:
        return self._call("GET", f"/api/v1/feeds/{_part(feed)}/ledger", query={"limit": limit})

    def rejects(self, feed: str, *, before: int | None = None, limit: int = 200) -> list[wire.Reject]:
        """The latest first, with id < before."""
        return self._call("GET", f"/api/v1/feeds/{_part(feed)}/rejects", query={"before": before, "limit": limit})

    def files(
        self, feed: str, *, table: str | None = None, state: str | None = None, match: str | None = None, limit: int = 100
    ) -> list[wire.FileLine]:
        """The latest taken first. match: a pattern of paths."""
        query = {"table": table, "state": state, "match": match, "limit": limit}
        return self._call("GET", f"/api/v1/feeds/{_part(feed)}/files", query=query)

    def rewind_cursor(self, feed: str, table: str, *, to: str | None = None, only_look: bool = False) -> wire.Rewound:
        """The next run reads the table from an earlier value of its cursor on, or from the beginning. only_look: what that would cost."""
        body = {"table": table, "to": to, "only_look": only_look}
        return self._call("POST", f"/api/v1/feeds/{_part(feed)}/rewind-cursor", body=body)

    def rewind(self, feed: str, table: str, *, files: Sequence[str]) -> wire.Again:
        """The next run takes these files, or those that match these patterns, once more."""
        return self._call("POST", f"/api/v1/feeds/{_part(feed)}/rewind", body={"table": table, "files": list(files)})

    def drift(self, feed: str, *, limit: int = 200) -> list[wire.Drift]:
        return self._call("GET", f"/api/v1/feeds/{_part(feed)}/drift", query={"limit": limit})

    def verify(self, feed: str, *, table: str | None = None, deep: bool = False) -> list[wire.VerifiedTable]:
        """Reads the source from the beginning, and so may take as long as a first load."""
        return self._call("POST", f"/api/v1/feeds/{_part(feed)}/verify", body={"table": table, "deep": deep}, patient=True)

    # Schedules

    def pause(self, feed: str) -> wire.Feed:
        return self._call("POST", f"/api/v1/feeds/{_part(feed)}/pause")

    def resume(self, feed: str) -> wire.Feed:
        return self._call("POST", f"/api/v1/feeds/{_part(feed)}/resume")

    def schedules(self, *, each: int = 40) -> list[wire.ScheduledFeed]:
        """Feeds that run by themselves; each: how many of their latest windows."""
        return self._call("GET", "/api/v1/schedules", query={"each": each})

    def windows(
        self, feed: str, *, state: str | None = None, lane: str | None = None, limit: int = 200
    ) -> list[wire.DueWindow]:
        return self._call("GET", f"/api/v1/feeds/{_part(feed)}/windows", query={"state": state, "lane": lane, "limit": limit})

    def windows_again(self, feed: str, start: str, until: str) -> wire.Counted:
        """Windows in that range that failed or were skipped run once more."""
        return self._call("POST", f"/api/v1/feeds/{_part(feed)}/windows/again", body={"from": start, "until": until})

    def backfill(self, feed: str, start: str, until: str, step: str) -> wire.Backfill:
        return self._call("POST", f"/api/v1/feeds/{_part(feed)}/backfills", body={"from": start, "until": until, "step": step})

    def backfills(self, feed: str | None = None) -> list[wire.Backfill]:
        return self._call("GET", "/api/v1/backfills", query={"feed": feed})

    def move_backfill(self, backfill: int, to: str) -> wire.Backfill:
        """to: pause, resume or cancel."""
        return self._call("POST", f"/api/v1/backfills/{backfill}/{to}")

    def notices(self, *, state: str | None = None, limit: int = 100) -> list[wire.Notice]:
        return self._call("GET", "/api/v1/notices", query={"state": state, "limit": limit})

    def notices_again(self) -> wire.Counted:
        return self._call("POST", "/api/v1/notices/again")

    # Runs

    def ask_run(
        self,
        feed: str,
        *,
        wait_seconds: float = 0,
        accept: bool = False,
        again: bool = False,
        sets: Mapping[str, Any] | None = None,
        bodies: bool = False,
        bundle: bool = False,
    ) -> wire.Run:
        """Run a feed. With wait_seconds (at most 55) the answer comes when it ended, or after so long.

        accept: let go what a change of writing cannot keep. again: replay the feed's rejects in place of asking the source.
        sets: in place of parameters and settings, for this run alone. bodies: keep what goes over the wire, see `exchange`.
        bundle: all its records become files in place of rows, see `bundles`.
        """
        body = {"feed": feed, "wait_seconds": wait_seconds, "accept": accept, "again": again, "sets": dict(sets or {})}
        body |= {"bodies": bodies, "bundle": bundle}
        return self._call("POST", "/api/v1/runs", body=body)

    def runs(self, *, feed: str | None = None, before: int | None = None, limit: int = 50) -> list[wire.Run]:
        return self._call("GET", "/api/v1/runs", query={"feed": feed, "before": before, "limit": limit})

    def run(self, run: int, *, wait_seconds: float = 0) -> wire.Run:
        return self._call("GET", f"/api/v1/runs/{run}", query={"wait_seconds": wait_seconds or None})

    def cancel(self, run: int) -> wire.Run:
        return self._call("POST", f"/api/v1/runs/{run}/cancel")

    def log(self, run: int, *, after: int = 0, limit: int = 500) -> list[wire.LogLine]:
        return self._call("GET", f"/api/v1/runs/{run}/log", query={"after": after, "limit": limit})

    def requests(self, run: int, *, after: int = 0, limit: int = 500, failed: bool = False) -> list[wire.RequestLine]:
        """In order, with number > after; as long as they are kept."""
        query = {"after": after, "limit": limit, "failed": "true" if failed else None}
        return self._call("GET", f"/api/v1/runs/{run}/requests", query=query)

    def exchange(self, run: int, number: int) -> wire.Exchange:
        """What went over the wire of one request, where it was kept. Raises ServiceError."""
        return self._call("GET", f"/api/v1/runs/{run}/requests/{number}")

    def pace(self, run: int) -> list[wire.PaceSample]:
        """How far a run was at which moment; nothing of one that was over at once."""
        return self._call("GET", f"/api/v1/runs/{run}/pace")

    def run_ledger(self, run: int) -> list[wire.LedgerLine]:
        return self._call("GET", f"/api/v1/runs/{run}/ledger")

    def events(self, run: int, *, after: int = 0) -> Iterator[tuple[str, Any]]:
        """Live: ('run', Run), ('log', [LogLine]), and at last ('end', {outcome})."""
        yield from self._events(f"/api/v1/runs/{run}/events", {"after": after})

    def changes(self) -> Iterator[tuple[str, Any]]:
        """Live: ('changed', {}) now, and whenever something in the store changed."""
        yield from self._events("/api/v1/events", {})

    def _events(self, path: str, query: Mapping[str, Any]) -> Iterator[tuple[str, Any]]:
        answer = self._caller.send("GET", path, query=query)
        name, data = "", ""
        try:
            for raw in answer:
                line = raw.decode().rstrip("\n")
                if line.startswith("event: "):
                    name = line[7:]
                elif line.startswith("data: "):
                    data = line[6:]
                elif not line and name:
                    yield name, json.loads(data)
                    name = ""
        except (OSError, http.client.HTTPException) as error:
            raise self._caller.unreachable() from error
        finally:
            answer.close()

    # Sources

    def sources(self) -> list[wire.Source]:
        return self._call("GET", "/api/v1/sources")

    def source(self, name: str) -> wire.Source:
        return self._call("GET", f"/api/v1/sources/{_part(name)}")

    def check_source(self, name: str) -> list[wire.CheckStep]:
        return self._call("POST", f"/api/v1/sources/{_part(name)}/check")

    def setup_sql(self, name: str) -> list[wire.SetupStatement]:
        """What an administrator has to run so that the source may read what its feeds name."""
        return self._call("POST", f"/api/v1/sources/{_part(name)}/setup-sql")

    def survey(self, name: str, *, match: Sequence[str] = (), besides: Sequence[str] = ()) -> list[wire.SurveyedTable]:
        """Asks an API for a page or two of each table, a database for its catalog. match, besides: patterns of a database's tables."""
        return self._call(
            "POST", f"/api/v1/sources/{_part(name)}/survey", body={"match": list(match), "besides": list(besides)}, patient=True
        )

    def peek_files(self, source: str, files: str, *, rows: int = 10) -> wire.Peek:
        """files: a path, a pattern, or a table that a feed takes from there."""
        return self._call(
            "POST", f"/api/v1/sources/{_part(source)}/peek-files", body={"files": files, "rows": rows}, patient=True
        )

    def peek(self, source: str, table: str, *, rows: int = 10, wire: bool = False) -> wire.Peek:
        """wire: also the request sent and the answer received, secrets blanked."""
        path = f"/api/v1/sources/{_part(source)}/tables/{_part(table)}/peek"
        return self._call("POST", path, body={"rows": rows, "wire": wire}, patient=True)

    # Bundles

    def bundles(self) -> list[wire.Bundle]:
        return self._call("GET", "/api/v1/bundles")

    def bundle_file(self, bundle: str, file: str) -> Iterator[bytes]:
        """One file of it, a part at a time."""
        return self._caller.parts(f"/api/v1/bundles/{_part(bundle)}/{_part(file)}")

    def remove_bundle(self, bundle: str) -> None:
        self._call("DELETE", f"/api/v1/bundles/{_part(bundle)}")

    # Warehouses

    def warehouses(self) -> list[wire.Warehouse]:
        return self._call("GET", "/api/v1/warehouses")

    def tables(self, warehouse: str) -> list[wire.Table]:
        return self._call("GET", f"/api/v1/warehouses/{_part(warehouse)}/tables")

    def rows(self, warehouse: str, table: str, *, limit: int = 50, offset: int = 0) -> wire.Rows:
        path = f"/api/v1/warehouses/{_part(warehouse)}/tables/{_part(table)}/rows"
        return self._call("GET", path, query={"limit": limit, "offset": offset})

    def check(self, warehouse: str) -> list[wire.CheckStep]:
        return self._call("POST", f"/api/v1/warehouses/{_part(warehouse)}/check")

    def profile(self, warehouse: str, table: str) -> wire.Profile:
        return self._call("GET", f"/api/v1/warehouses/{_part(warehouse)}/tables/{_part(table)}/profile", patient=True)

    def query(self, warehouse: str, sql: str, *, limit: int = 200, seconds: float = 10) -> wire.Rows:
        body = {"sql": sql, "limit": limit, "seconds": seconds}
        return self._call("POST", f"/api/v1/warehouses/{_part(warehouse)}/query", body=body)


def _part(text: str) -> str:
    return quote(text, safe="")
