"""Warehouses and extracts."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from .resource import Listed, Resource, part

if TYPE_CHECKING:
    from .. import wire


class Warehouses(Resource):
    """Where tables are loaded."""

    def list(self) -> Listed[wire.Warehouse]:
        """Every warehouse."""
        return self._call("GET", "/api/v1/warehouses")

    def check(self, warehouse: str) -> Listed[wire.CheckStep]:
        """Check each step of connecting and loading."""
        return self._call("POST", f"/api/v1/warehouses/{part(warehouse)}/check")

    def tables(self, warehouse: str) -> Listed[wire.Table]:
        """Its tables, with exact numbers of rows."""
        return self._call("GET", f"/api/v1/warehouses/{part(warehouse)}/tables")

    def rows(self, warehouse: str, table: str, *, limit: int = 50, offset: int = 0) -> wire.Rows:
        """Rows of a table; `truncated` tells whether there are more."""
        path = f"/api/v1/warehouses/{part(warehouse)}/tables/{part(table)}/rows"
        return self._call("GET", path, query={"limit": limit, "offset": offset})

    def profile(self, warehouse: str, table: str) -> wire.Profile:
        """Statistics of each column of a table."""
        return self._call("GET", f"/api/v1/warehouses/{part(warehouse)}/tables/{part(table)}/profile", patient=True)

    def query(self, warehouse: str, sql: str, *, limit: int = 200, seconds: float = 10) -> wire.Rows:
        """The rows of a SELECT, which can only read.

        Args:
            limit: the largest number of rows.
            seconds: how long it may take.
        """
        path = f"/api/v1/warehouses/{part(warehouse)}/query"
        return self._call("POST", path, body={"sql": sql, "limit": limit, "seconds": seconds})


class Extracts(Resource):
    """Records of a feed as open files, written by `feeds.run(feed, extract=True)`."""

    def list(self) -> Listed[wire.Extract]:
        """Those that the service has, the latest first."""
        return self._call("GET", "/api/v1/extracts")

    def file(self, extract: str, file: str) -> Iterator[bytes]:
        """One file of an extract, one part at a time."""
        return self._caller.parts(f"/api/v1/extracts/{part(extract)}/{part(file)}")

    def remove(self, extract: str) -> None:
        """Remove one, with all its files."""
        self._call("DELETE", f"/api/v1/extracts/{part(extract)}")
