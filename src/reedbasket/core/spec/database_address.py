"""Where a database is, and how to get in: the same words for a source and for a warehouse."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from .fields import Model, Name


class Tls(Model):
    """How the way to a server is protected; the words are PostgreSQL's own (libpq, section 34.19)."""

    mode: Literal["require", "verify-full", "verify-ca", "disable"] = Field("require", title="TLS")
    root: str | None = Field(None, description="file with the certificates to trust; needed for `verify`")

    @model_validator(mode="after")
    def _consistent(self) -> Tls:
        if self.mode.startswith("verify") and not self.root:
            raise ValueError(f"mode {self.mode} needs `root`, a file with the certificates to trust")
        return self


class SecretName(Model):
    """A secret, by name; set with `reed secret set NAME`."""

    secret: Name


class ServerAddress(Model):
    """A database on a server, and how to connect to it."""

    # One: a driver that takes several would go where nobody looked.
    host: str = Field(min_length=1, pattern="^[^,]+$", title="Host")
    port: int = Field(ge=1, le=65535, title="Port")
    database: str = Field(title="Database")
    user: str = Field(title="User")
    password: SecretName | None = Field(None, title="Password")
    tls: Tls = Tls()

    @property
    def files(self) -> dict[tuple[str, ...], str]:
        """{key: a file that it names}."""
        return {("tls", "root"): self.tls.root} if self.tls.root else {}

    @property
    def server(self) -> str:
        """host:port, in lower case: who receives the password."""
        return f"{self.host}:{self.port}".lower()
