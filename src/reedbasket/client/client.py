"""A client of one service, its calls grouped by what they are about."""

from __future__ import annotations

from collections.abc import Iterator
from types import TracebackType
from typing import TYPE_CHECKING, Any, Self

from .caller import QUIET_SECONDS, Caller
from .definitions import Definitions, Secrets
from .feeds import Backfills, Feeds, Notifications
from .people import Tokens, Users
from .resource import PAGE, Listed, Resource, pages, part
from .runs import Runs
from .sources import Drafts, Sources
from .warehouses import Extracts, Warehouses

if TYPE_CHECKING:
    from .. import wire


class Settings(Resource):
    """The settings of the service, some of which can be changed while it runs."""

    def list(self) -> Listed[wire.Setting]:
        """All of them."""
        return self._call("GET", "/api/v1/settings")

    def change(self, name: str, value: int | None) -> Listed[wire.Setting]:
        """Change one.

        Args:
            value: None for what the service was started with.
        """
        return self._call("PUT", f"/api/v1/settings/{part(name)}", body={"value": value})


class Client:
    """One service, by its address and a token. Threads may share it.

    Attributes:
        feeds: start, plan, verify, schedule.
        runs: follow, cancel, read logs.
        sources: check, survey, preview.
        warehouses: tables, rows, queries.
        definitions: apply a basket, look at what is in force.
        secrets, users, tokens, settings: for administrators.
        backfills, notifications, extracts, drafts: what their names say.

    Every call raises ServiceProblem where the service refuses it, ServiceUnreachable where none answers.

    Example:
        with Client("http://127.0.0.1:8640", token) as reed:
            run = reed.feeds.run("harbour").wait()
            print(run.outcome, [line["inserted"] for line in run.ledger])
    """

    def __init__(self, url: str, token: str, *, timeout: float = QUIET_SECONDS) -> None:
        """Prepare; nothing is sent yet.

        Args:
            url: of the service, `http://127.0.0.1:8640`.
            token: as `reed token add` prints it.
            timeout: seconds for connecting, and for each part of an answer.
        """
        self._caller = caller = Caller(url, token, timeout)
        self.url = caller.url
        self.runs = Runs(caller)
        self.feeds = Feeds(caller, self.runs)
        self.backfills = Backfills(caller)
        self.notifications = Notifications(caller)
        self.sources = Sources(caller)
        self.drafts = Drafts(caller)
        self.warehouses = Warehouses(caller)
        self.extracts = Extracts(caller)
        self.definitions = Definitions(caller)
        self.secrets = Secrets(caller)
        self.users = Users(caller)
        self.tokens = Tokens(caller)
        self.settings = Settings(caller)

    def __repr__(self) -> str:
        return f"Client({self.url!r})"

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self.close()

    def close(self) -> None:
        """Close its idle connections."""
        self._caller.close()

    def health(self) -> wire.Health:
        """Whether the service is up, and since when."""
        return self._caller.call("GET", "/healthz")

    def who_am_i(self) -> wire.Session:
        """Whose token this is, and what it may do."""
        return self._caller.call("GET", "/api/v1/session")

    def sign_in_code(self) -> wire.SignInCode:
        """A link into the console that works once."""
        return self._caller.call("POST", "/api/v1/sign-in-codes")

    def activity(self, hours: int = 24) -> wire.Activity:
        """What was loaded during the last hours, at most 168."""
        return self._caller.call("GET", f"/api/v1/activity?hours={hours}")

    def changes(self) -> Iterator[tuple[str, Any]]:
        """Live: ('changed', {}) now, and whenever something changes."""
        yield from self._caller.events("/api/v1/events", {})

    def audit(self, *, before: int | None = None, limit: int = 100) -> Listed[wire.AuditLine]:
        """The audit log, the latest first.

        Args:
            before: only lines with a smaller number.
        """
        return self._caller.call("GET", "/api/v1/audit", query={"before": before, "limit": limit})

    def all_audit(self) -> Iterator[wire.AuditLine]:
        """All lines of the audit log, the latest first."""
        return pages(lambda at: self.audit(before=at, limit=PAGE), lambda line: line["id"])

    def forms(self) -> Listed[wire.Form]:
        """The fields of each kind of source."""
        return self._caller.call("GET", "/api/v1/forms")

    def schema(self) -> dict[str, Any]:
        """JSON Schema of definitions."""
        return self._caller.call("GET", "/api/v1/schema")

    def openapi(self) -> dict[str, Any]:
        """All calls of the service, as OpenAPI."""
        return self._caller.call("GET", "/api/v1/openapi.json")
