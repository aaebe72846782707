"""Sources, and definitions that are not applied yet."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from .resource import Listed, Resource, part

if TYPE_CHECKING:
    from .. import wire as w


class Sources(Resource):
    """Where records come from."""

    def list(self) -> Listed[w.Source]:
        """Every source, with its connector, settings and rate limit."""
        return self._call("GET", "/api/v1/sources")

    def get(self, source: str) -> w.Source:
        """One source."""
        return self._call("GET", f"/api/v1/sources/{part(source)}")

    def check(self, source: str) -> Listed[w.CheckStep]:
        """Check each step of connecting and reading."""
        return self._call("POST", f"/api/v1/sources/{part(source)}/check")

    def setup_sql(self, source: str) -> Listed[w.SetupStatement]:
        """The statements with which an administrator grants the access that its feeds need."""
        return self._call("POST", f"/api/v1/sources/{part(source)}/setup-sql")

    def sign_in(self, source: str) -> w.SignInRedirect:
        """Where a person has to go to sign in at it (OAuth 2, authorization code)."""
        return self._call("POST", f"/api/v1/sources/{part(source)}/sign-in")

    def survey(self, source: str, *, match: Sequence[str] = (), exclude: Sequence[str] = ()) -> Listed[w.SurveyedTable]:
        """What it contains: a page or two of each table of an API, or the catalog of a database.

        Args:
            match: patterns of a database's tables; all by default.
            exclude: patterns of tables to leave out.
        """
        body = {"match": list(match), "exclude": list(exclude)}
        return self._call("POST", f"/api/v1/sources/{part(source)}/survey", body=body, patient=True)

    def preview(self, source: str, table: str, *, rows: int = 10, wire: bool = False) -> w.Preview:
        """The first records of a table.

        Args:
            wire: include the request and the answer, with secrets masked.
        """
        path = f"/api/v1/sources/{part(source)}/tables/{part(table)}/preview"
        return self._call("POST", path, body={"rows": rows, "wire": wire}, patient=True)

    def preview_files(self, source: str, files: str, *, rows: int = 10) -> w.Preview:
        """The first records of files.

        Args:
            files: a path, a pattern, or a table that a feed loads from there.
        """
        path = f"/api/v1/sources/{part(source)}/preview-files"
        return self._call("POST", path, body={"files": files, "rows": rows}, patient=True)


class Drafts(Resource):
    """Definitions as YAML that are tried before they are applied; nothing is saved."""

    def check(self, draft: str, source: str) -> Listed[w.CheckStep]:
        """Check each step of connecting to a source."""
        return self._call("POST", "/api/v1/draft/check", body={"draft": draft, "source": source})

    def survey(self, draft: str, source: str) -> Listed[w.SurveyedTable]:
        """The tables of a source."""
        return self._call("POST", "/api/v1/draft/survey", body={"draft": draft, "source": source})

    def try_table(self, draft: str, source: str, table: str, *, pages: int = 1) -> w.TrialResult:
        """Request the first pages of a table of an API, and see what the answer suggests."""
        return self._call("POST", "/api/v1/draft/try", body={"draft": draft, "source": source, "table": table, "pages": pages})

    def plan(self, draft: str, feed: str) -> w.Plan:
        """What a run of a feed would do."""
        return self._call("POST", "/api/v1/draft/plan", body={"draft": draft, "feed": feed})
