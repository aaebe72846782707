"""Users and tokens."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from .resource import Listed, Resource, part

if TYPE_CHECKING:
    from .. import wire


class Users(Resource):
    """People who may sign in."""

    def list(self) -> Listed[wire.User]:
        """All of them, with their roles."""
        return self._call("GET", "/api/v1/users")

    def add(self, name: str, role: wire.Role, password: str | None = None) -> None:
        """Add a user. Without a password, the user chooses one by a link."""
        self._call("POST", "/api/v1/users", body={"name": name, "role": role, "password": password})

    def change(self, name: str, **change: Any) -> None:
        """Change `role`, `password` or `disabled`."""
        self._call("PUT", f"/api/v1/users/{part(name)}", body=change)

    def remove(self, name: str) -> None:
        """Remove a user, with all tokens and sessions."""
        self._call("DELETE", f"/api/v1/users/{part(name)}")


class Tokens(Resource):
    """Tokens for programs."""

    def list(self) -> Listed[wire.Token]:
        """All of them, by their labels."""
        return self._call("GET", "/api/v1/tokens")

    def add(self, label: str, role: wire.Role, *, days: int | None = None) -> wire.NewToken:
        """Add a token. Only this answer contains its value.

        Args:
            days: how long it is valid; forever by default.
        """
        return self._call("POST", "/api/v1/tokens", body={"label": label, "role": role, "days": days})

    def remove(self, token: str) -> None:
        """Make a token invalid."""
        self._call("DELETE", f"/api/v1/tokens/{part(token)}")
