"""Every call of the service, typed."""

from __future__ import annotations

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

    # Definitions and secrets

    def health(self) -> wire.Health:
        """Whether the service is up, and since when."""
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
        """Every version of one definition, the latest first, each with its difference to the one before."""
        return self._call("GET", f"/api/v1/definitions/{_part(kind)}/{_part(name)}/versions")

    def revert(self, kind: str, name: str, version: int) -> wire.Applied:
        """An earlier version in force again."""
        return self._call("POST", f"/api/v1/definitions/{_part(kind)}/{_part(name)}/revert", body={"version": version})

    def definitions(self) -> list[wire.Definition]:
        """What is in force."""
        return self._call("GET", "/api/v1/definitions")

    def definition(self, kind: str, name: str) -> wire.Definition:
        """One definition in force, as it was written."""
        return self._call("GET", f"/api/v1/definitions/{_part(kind)}/{_part(name)}")

    def forms(self) -> list[wire.Form]:
        """What is asked of who describes a source, by what it is."""
        return self._call("GET", "/api/v1/forms")

    def schema(self) -> dict[str, Any]:
        """JSON Schema of definitions."""
        return self._call("GET", "/api/v1/schema")

    def openapi(self) -> dict[str, Any]:
        """The document of all calls, as OpenAPI."""
        return self._call("GET", "/api/v1/openapi.json")

    def secrets(self) -> list[wire.SecretName]:
        """Their names, and where each is kept; never what they are."""
        return self._call("GET", "/api/v1/secrets")

    def set_secret(self, name: str, value: str) -> None:
        """Keep a secret, or another value of it."""
        self._call("PUT", f"/api/v1/secrets/{_part(name)}", body={"value": value})

    def remove_secret(self, name: str) -> None:
        """Forget one that no definition names."""
        self._call("DELETE", f"/api/v1/secrets/{_part(name)}")

    def rotate_secrets(self) -> wire.Counted:
        """Seal all of them with a new key."""
        return self._call("POST", "/api/v1/secret-key/rotate")

    # People

    def who_am_i(self) -> wire.Session:
        """Whose token this is, and what it may do."""
        return self._call("GET", "/api/v1/session")

    def users(self) -> list[wire.User]:
        """Who may sign in, and as what."""
        return self._call("GET", "/api/v1/users")

    def add_user(self, name: str, role: wire.Role, password: str | None = None) -> None:
        """Without a password one is made by whoever has the link."""
        self._call("POST", "/api/v1/users", body={"name": name, "role": role, "password": password})

    def change_user(self, name: str, **change: Any) -> None:
        """role, password, disabled."""
        self._call("PUT", f"/api/v1/users/{_part(name)}", body=change)

    def remove_user(self, name: str) -> None:
        """End an account, with all its tokens and sessions."""
        self._call("DELETE", f"/api/v1/users/{_part(name)}")

    def tokens(self) -> list[wire.Token]:
        """All of them, without what they are."""
        return self._call("GET", "/api/v1/tokens")

    def make_token(self, label: str, role: wire.Role, *, days: int | None = None) -> wire.NewToken:
        """Shown here, and never again."""
        return self._call("POST", "/api/v1/tokens", body={"label": label, "role": role, "days": days})

    def remove_token(self, token: str) -> None:
        """From now on it opens nothing."""
        self._call("DELETE", f"/api/v1/tokens/{_part(token)}")

    def audit(self, *, before: int | None = None, limit: int = 100) -> list[wire.AuditLine]:
        """Who changed what, the latest first, with id < before."""
        return self._call("GET", "/api/v1/audit", query={"before": before, "limit": limit})

    def sign_in_code(self) -> wire.SignInCode:
        """A one-use link into the console."""
        return self._call("POST", "/api/v1/sign-in-codes")

    # Drafts: looks with definitions that are not in force, as YAML

    def check_draft(self, draft: str, source: str) -> list[wire.CheckStep]:
        """Each step of the way to a source that is not applied yet."""
        return self._call("POST", "/api/v1/draft/check", body={"draft": draft, "source": source})

    def survey_draft(self, draft: str, source: str) -> list[wire.SurveyedTable]:
        """What a source offers that is not applied yet."""
        return self._call("POST", "/api/v1/draft/survey", body={"draft": draft, "source": source})

    def try_draft(self, draft: str, source: str, table: str, *, pages: int = 1) -> wire.Tried:
        """Ask an API for the first pages of a table, and see what the answer suggests."""
        return self._call("POST", "/api/v1/draft/try", body={"draft": draft, "source": source, "table": table, "pages": pages})

    def plan_draft(self, draft: str, feed: str) -> wire.Plan:
        """What a run of a feed would do that is not applied yet."""
        return self._call("POST", "/api/v1/draft/plan", body={"draft": draft, "feed": feed})

    # Feeds

    def feeds(self) -> list[wire.Feed]:
        """Every feed, with its last run."""
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
        """One feed, with its last run."""
        return self._call("GET", f"/api/v1/feeds/{_part(name)}")

    def plan(self, feed: str) -> wire.Plan:
        """What the next run would do; nothing is written."""
        return self._call("POST", f"/api/v1/feeds/{_part(feed)}/plan")

    def ledger(self, feed: str, *, limit: int = 200) -> list[wire.LedgerLine]:
        """Its loads, the latest first."""
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
        """How its source's structure differed from what was expected, the latest first."""
        return self._call("GET", f"/api/v1/feeds/{_part(feed)}/drift", query={"limit": limit})

    def verify(self, feed: str, *, table: str | None = None, deep: bool = False) -> list[wire.VerifiedTable]:
        """Reads the source from the beginning, and so may take as long as a first load."""
        return self._call("POST", f"/api/v1/feeds/{_part(feed)}/verify", body={"table": table, "deep": deep}, patient=True)

    # Schedules

    def pause(self, feed: str) -> wire.Feed:
        """It begins no run by itself until it is resumed."""
        return self._call("POST", f"/api/v1/feeds/{_part(feed)}/pause")

    def resume(self, feed: str) -> wire.Feed:
        """It runs by itself again."""
        return self._call("POST", f"/api/v1/feeds/{_part(feed)}/resume")

    def schedules(self, *, each: int = 40) -> list[wire.ScheduledFeed]:
        """Feeds that run by themselves; each: how many of their latest windows."""
        return self._call("GET", "/api/v1/schedules", query={"each": each})

    def windows(
        self, feed: str, *, state: str | None = None, lane: str | None = None, limit: int = 200
    ) -> list[wire.DueWindow]:
        """Its windows, the latest first; lane: the feed's own, or of a backfill."""
        return self._call("GET", f"/api/v1/feeds/{_part(feed)}/windows", query={"state": state, "lane": lane, "limit": limit})

    def windows_again(self, feed: str, start: str, until: str) -> wire.Counted:
        """Windows in that range that failed or were skipped run once more."""
        return self._call("POST", f"/api/v1/feeds/{_part(feed)}/windows/again", body={"from": start, "until": until})

    def backfill(self, feed: str, start: str, until: str, length: str) -> wire.Backfill:
        """Take a range of the past once more, in steps; start, until: RFC 3339. step: `1d`, `6h`."""
        return self._call(
            "POST", f"/api/v1/feeds/{_part(feed)}/backfills", body={"from": start, "until": until, "length": length}
        )

    def backfills(self, feed: str | None = None) -> list[wire.Backfill]:
        """All of them, or a feed's, the latest first."""
        return self._call("GET", "/api/v1/backfills", query={"feed": feed})

    def move_backfill(self, backfill: int, to: str) -> wire.Backfill:
        """to: pause, resume or cancel."""
        return self._call("POST", f"/api/v1/backfills/{backfill}/{to}")

    def notifications(self, *, state: str | None = None, limit: int = 100) -> list[wire.Notification]:
        """What somebody heard, or is to hear, the latest first."""
        return self._call("GET", "/api/v1/notifications", query={"state": state, "limit": limit})

    def notifications_again(self) -> wire.Counted:
        """Send once more what could not be delivered."""
        return self._call("POST", "/api/v1/notifications/again")

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
        extract: bool = False,
    ) -> wire.Run:
        """Run a feed. With wait_seconds (at most 55) the answer comes when it ended, or after so long.

        accept: let go what a change of writing cannot keep. again: replay the feed's rejects in place of asking the source.
        sets: in place of the variant's values and of settings, for this run alone. bodies: keep what goes over the wire, see `exchange`.
        extract: all its records become files in place of rows, see `extracts`.
        """
        body = {"feed": feed, "wait_seconds": wait_seconds, "accept": accept, "again": again, "sets": dict(sets or {})}
        body |= {"bodies": bodies, "extract": extract}
        return self._call("POST", "/api/v1/runs", body=body)

    def runs(self, *, feed: str | None = None, before: int | None = None, limit: int = 50) -> list[wire.Run]:
        """The latest first, with id < before."""
        return self._call("GET", "/api/v1/runs", query={"feed": feed, "before": before, "limit": limit})

    def run(self, run: int, *, wait_seconds: float = 0) -> wire.Run:
        """One run with its tables; wait_seconds: for its end, at most 55."""
        return self._call("GET", f"/api/v1/runs/{run}", query={"wait_seconds": wait_seconds or None})

    def cancel(self, run: int) -> wire.Run:
        """Ask a run to stop; what it committed stays."""
        return self._call("POST", f"/api/v1/runs/{run}/cancel")

    def log(self, run: int, *, after: int = 0, limit: int = 500) -> list[wire.LogLine]:
        """Its lines in order, with number > after."""
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
        """The loads of one run."""
        return self._call("GET", f"/api/v1/runs/{run}/ledger")

    def events(self, run: int, *, after: int = 0) -> Iterator[tuple[str, Any]]:
        """Live: ('run', Run), ('log', [LogLine]), and at last ('end', {outcome})."""
        yield from self._caller.events(f"/api/v1/runs/{run}/events", {"after": after})

    def changes(self) -> Iterator[tuple[str, Any]]:
        """Live: ('changed', {}) now, and whenever something in the store changed."""
        yield from self._caller.events("/api/v1/events", {})

    # Sources

    def sources(self) -> list[wire.Source]:
        """Every source, with its connector, settings and pace."""
        return self._call("GET", "/api/v1/sources")

    def source(self, name: str) -> wire.Source:
        """One source."""
        return self._call("GET", f"/api/v1/sources/{_part(name)}")

    def check_source(self, name: str) -> list[wire.CheckStep]:
        """Each step of the way to it."""
        return self._call("POST", f"/api/v1/sources/{_part(name)}/check")

    def setup_sql(self, name: str) -> list[wire.SetupStatement]:
        """What an administrator has to run so that the source may read what its feeds name."""
        return self._call("POST", f"/api/v1/sources/{_part(name)}/setup-sql")

    def survey(self, name: str, *, match: Sequence[str] = (), exclude: Sequence[str] = ()) -> list[wire.SurveyedTable]:
        """Asks an API for a page or two of each table, a database for its catalog. match, exclude: patterns of a database's tables."""
        return self._call(
            "POST", f"/api/v1/sources/{_part(name)}/survey", body={"match": list(match), "exclude": list(exclude)}, patient=True
        )

    def preview_files(self, source: str, files: str, *, rows: int = 10) -> wire.Preview:
        """files: a path, a pattern, or a table that a feed takes from there."""
        return self._call(
            "POST", f"/api/v1/sources/{_part(source)}/preview-files", body={"files": files, "rows": rows}, patient=True
        )

    def preview(self, source: str, table: str, *, rows: int = 10, wire: bool = False) -> wire.Preview:
        """wire: also the request sent and the answer received, secrets blanked."""
        path = f"/api/v1/sources/{_part(source)}/tables/{_part(table)}/preview"
        return self._call("POST", path, body={"rows": rows, "wire": wire}, patient=True)

    # Extracts

    def extracts(self) -> list[wire.Extract]:
        """Those that runs have written, the latest first."""
        return self._call("GET", "/api/v1/extracts")

    def extract_file(self, extract: str, file: str) -> Iterator[bytes]:
        """One file of it, a part at a time."""
        return self._caller.parts(f"/api/v1/extracts/{_part(extract)}/{_part(file)}")

    def remove_extract(self, extract: str) -> None:
        """Remove all its files."""
        self._call("DELETE", f"/api/v1/extracts/{_part(extract)}")

    # Warehouses

    def warehouses(self) -> list[wire.Warehouse]:
        """Every warehouse."""
        return self._call("GET", "/api/v1/warehouses")

    def tables(self, warehouse: str) -> list[wire.Table]:
        """Its tables, counted."""
        return self._call("GET", f"/api/v1/warehouses/{_part(warehouse)}/tables")

    def rows(self, warehouse: str, table: str, *, limit: int = 50, offset: int = 0) -> wire.Rows:
        """Rows of a table as they lie; one more than `limit` is looked for, which `truncated` tells."""
        path = f"/api/v1/warehouses/{_part(warehouse)}/tables/{_part(table)}/rows"
        return self._call("GET", path, query={"limit": limit, "offset": offset})

    def check(self, warehouse: str) -> list[wire.CheckStep]:
        """Each step of the way to loading into it."""
        return self._call("POST", f"/api/v1/warehouses/{_part(warehouse)}/check")

    def profile(self, warehouse: str, table: str) -> wire.Profile:
        """Statistics of each column of a table."""
        return self._call("GET", f"/api/v1/warehouses/{_part(warehouse)}/tables/{_part(table)}/profile", patient=True)

    def query(self, warehouse: str, sql: str, *, limit: int = 200, seconds: float = 10) -> wire.Rows:
        """What a SELECT brings, read only; seconds: it may take."""
        body = {"sql": sql, "limit": limit, "seconds": seconds}
        return self._call("POST", f"/api/v1/warehouses/{_part(warehouse)}/query", body=body)


def _part(text: str) -> str:
    return quote(text, safe="")
