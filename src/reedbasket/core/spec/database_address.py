"""Where a database is, and how to get in: the same words for a source and for a warehouse."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from .fields import Model, Name


class Tls(Model):
    """How the way to a server is protected; the words are PostgreSQL's own (libpq, section 34.19)."""

    mode: Literal["disable", "require", "verify-ca", "verify-full"] = "require"
    root: str | None = Field(None, description="file with the certificates to trust; needed to verify")

    @model_validator(mode="after")
    def _consistent(self) -> Tls:
        if self.mode.startswith("verify") and not self.root:
            raise ValueError(f"mode {self.mode} needs `root`, a file with the certificates to trust")
        return self


class SecretName(Model):
    """A secret, by name; set with `reed secret set NAME`."""

    secret: Name


_PORTS = {"postgres": 5432, "mysql": 3306}
ON_FILE = ("path",)
ON_SERVER = ("host", "port", "database", "user", "password", "tls")


class Place(Model):
    """path: of a file. host, port, database, user, password, tls: of a server."""

    path: str | None = Field(
        None,
        min_length=1,
        description="a file; a relative path starts in the data folder's `files`, a warehouse's in its `warehouses`",
    )
    # One: a driver that takes several would go where nobody looked.
    host: str | None = Field(None, min_length=1, pattern="^[^,]+$")
    port: int | None = Field(None, ge=1, le=65535, description="5432 on postgres, 3306 on mysql where nothing is said")
    database: str | None = None
    user: str | None = None
    password: SecretName | None = None
    tls: Tls = Tls()

    @property
    def server_port(self) -> int:
        """The port that is said, or the usual one."""
        return self.port or _PORTS[getattr(self, "on", None) or "postgres"]


def require_place(place: Place, on: str, *, file: bool, more: tuple[str, ...] = ()) -> None:
    """more: further keys that go with a server only. Raises ValueError for what is missing, or does not belong there."""
    needed = ON_FILE if file else ("host", "database", "user")
    missing = [name for name in needed if getattr(place, name) is None]
    if missing:
        raise ValueError(f"on {on} needs {' and '.join(missing)}")
    unknown = stated(place, (*ON_SERVER, *more) if file else ON_FILE)
    if unknown:
        raise ValueError(f"on {on} knows no {' and no '.join(unknown)}")


def stated(model: Model, names: tuple[str, ...]) -> list[str]:
    """Which of these keys somebody wrote."""
    fields = {field.alias or name: name for name, field in type(model).model_fields.items()}
    return [name for name in names if fields.get(name) in model.model_fields_set]
