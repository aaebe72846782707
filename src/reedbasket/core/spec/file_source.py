"""The definition of a file store as a source."""

from __future__ import annotations

from typing import Any, ClassVar, Literal
from urllib.parse import urlsplit

from pydantic import Field, model_validator
from typing_extensions import override

from ..kinds import FOLDER, STORES, StoreKind
from .database_address import SecretName, Tls
from .fields import Zone
from .source import Source

# Of which each kind of store takes some.
_KEYS = ("endpoint", "region", "key", "host_key", "user", "password", "tls")


class FileSource(Source):
    """Files: `path` is a folder, `url` any other store, as s3://bucket/folder or sftp://host/folder. `user` and `password` are also the
    key and secret of an S3-compatible store; without them, access is anonymous.
    """

    forms: ClassVar[dict[str, dict[str, Any]]] = {
        "a folder of files": {"path": ""},
        "another store of files": {"url": "s3://", "endpoint": None, "user": None, "password": None},
    }
    type: Literal["files"]
    path: str | None = Field(
        None, min_length=1, title="Folder; a relative one begins in `files` of the data folder", examples=["turnstile"]
    )
    url: str | None = Field(None, min_length=1, title="Address", examples=["s3://bucket/folder, sftp://host/folder"])
    user: str | None = Field(None, title="User, or key")
    password: SecretName | None = Field(None, title="Password")
    tls: Tls = Tls()
    endpoint: str | None = Field(
        None, title="Endpoint, of one's own", examples=["http://127.0.0.1:9000"], description="for an S3-compatible store"
    )
    region: str | None = Field(None, description="for an S3-compatible store")
    key: SecretName | None = Field(None, description="sftp: the private key, in OpenSSH's format")
    host_key: str | None = Field(
        None, description="sftp: the server's public key, `ssh-ed25519 AAAA…`; by default known_hosts decides"
    )
    time_zone: Zone = Field("UTC", description="the time zone of times without one")

    @model_validator(mode="after")
    def _consistent(self) -> FileSource:
        if (self.path is None) == (self.url is None):
            raise ValueError("type files needs either `path`, a folder, or `url`")
        parts = urlsplit(self.url or "")
        kind = STORES.find(parts.scheme if self.url else FOLDER)
        if kind is None or (self.url and parts.scheme == FOLDER):
            known = ", ".join(f"{name}://" for name in STORES.names() if name != FOLDER)
            raise ValueError(f"found url: {self.url}, which begins with none of: {known}")
        if self.url and not parts.hostname:
            raise ValueError(f"url: {self.url} has no {'host' if kind.port else 'bucket'}")
        if parts.username or parts.password:
            raise ValueError("give `user` and `password: {secret: …}` instead of credentials in the url")
        unknown = [name for name in _KEYS if name in self.model_fields_set and name not in kind.keys]
        if unknown:
            what = f"{parts.scheme}://" if parts.scheme else "a folder"
            raise ValueError(f"{what} does not have {' or '.join(unknown)}")
        return self

    @property
    @override
    def as_files(self) -> FileSource | None:
        return self

    @property
    def store(self) -> StoreKind:
        """The kind of store."""
        return STORES.get(FOLDER if self.url is None else urlsplit(self.url).scheme)

    @property
    @override
    def where(self) -> str:
        return f"{self.url} at {self.endpoint}" if self.endpoint else self.url or self.path or ""

    @property
    @override
    def files(self) -> dict[tuple[str, ...], str]:
        named = {("path",): self.path, ("tls", "root"): self.tls.root}
        return {key: path for key, path in named.items() if path is not None}

    @property
    @override
    def secrets(self) -> dict[str, str]:
        named = {"password": self.password, "key": self.key}
        return {key: secret.secret for key, secret in named.items() if secret is not None}

    @property
    @override
    def servers(self) -> set[str]:
        parts = [urlsplit(text) for text in (self.url, self.endpoint) if text]
        return {f"{at.scheme}://{at.netloc.rpartition('@')[2]}".lower() for at in parts}
