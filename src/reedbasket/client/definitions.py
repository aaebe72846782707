"""Definitions, and the secrets that they name."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

from .resource import Listed, Resource, part

if TYPE_CHECKING:
    from .. import wire


class Definitions(Resource):
    """The connectors, sources, warehouses and feeds in force."""

    def apply(
        self,
        files: Mapping[str, str],
        *,
        dry_run: bool = False,
        prune: bool = False,
        settings: Mapping[str, str] | None = None,
    ) -> Listed[wire.ApplyResult]:
        """Apply a basket. If there is a mistake in it, nothing is applied.

        Args:
            files: {file name: YAML text, or the Python that a connector names}.
            dry_run: only say what would change.
            prune: remove definitions that the basket does not contain.
            settings: files that say what is different in this environment.

        Returns:
            What happened to each definition, with its difference.

        Raises:
            ServiceProblem: `definition.mistakes`; its details are the list of them.
        """
        body = {"files": dict(files), "dry_run": dry_run, "prune": prune, "settings": dict(settings or {})}
        return self._call("POST", "/api/v1/basket", body=body)

    def export(self) -> dict[str, str]:
        """{file: text} of everything in force, as it was written."""
        return self._call("GET", "/api/v1/basket")

    def list(self) -> Listed[wire.Definition]:
        """All definitions in force."""
        return self._call("GET", "/api/v1/definitions")

    def get(self, kind: str, name: str) -> wire.Definition:
        """One definition.

        Args:
            kind: connector, source, warehouse or feed.
        """
        return self._call("GET", f"/api/v1/definitions/{part(kind)}/{part(name)}")

    def versions(self, kind: str, name: str) -> Listed[wire.Version]:
        """Every version of a definition, the latest first, each with its difference from the one before."""
        return self._call("GET", f"/api/v1/definitions/{part(kind)}/{part(name)}/versions")

    def revert(self, kind: str, name: str, version: int) -> wire.ApplyResult:
        """Apply an earlier version again."""
        return self._call("POST", f"/api/v1/definitions/{part(kind)}/{part(name)}/revert", body={"version": version})


class Secrets(Resource):
    """Secrets by their names; no call returns a value."""

    def list(self) -> Listed[wire.SecretName]:
        """Their names, and where each is kept."""
        return self._call("GET", "/api/v1/secrets")

    def set(self, name: str, value: str) -> None:
        """Store a secret, or a new value for it."""
        self._call("PUT", f"/api/v1/secrets/{part(name)}", body={"value": value})

    def remove(self, name: str) -> None:
        """Remove a secret."""
        self._call("DELETE", f"/api/v1/secrets/{part(name)}")

    def rotate(self) -> wire.Counted:
        """Encrypt all of them with the service's newest key."""
        return self._call("POST", "/api/v1/secret-key/rotate")
