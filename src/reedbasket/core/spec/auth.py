"""Authentication, as pydantic models."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import ClassVar, Literal

from pydantic import Field, model_validator
from typing_extensions import override

from .fields import Model, Name, Template
from .one_of import ModelClass, OneOf

_HEADER = r"^[A-Za-z0-9!#$%&'*+.^_`|~-]+$"


class Auth(OneOf):
    """Authentication; `type` says how."""

    templates: ClassVar[tuple[str, ...]] = ()
    type: str

    @classmethod
    @override
    def member_names(cls) -> Sequence[str]:
        return sorted(_MEMBERS)

    @classmethod
    @override
    def member(cls, name: str) -> ModelClass | None:
        return _MEMBERS.get(name)


class BearerAuth(Auth):
    """`Authorization: Bearer …` (RFC 6750)."""

    templates = ("token",)
    type: Literal["bearer"]
    token: Template


class BasicAuth(Auth):
    """User and password in the Authorization header (RFC 7617)."""

    templates = ("user", "password")
    type: Literal["basic"]
    user: Template
    password: Template


class ApiKeyAuth(Auth):
    """A key in a header, a parameter of the query, or a cookie."""

    templates = ("key",)
    type: Literal["api_key"]
    send_in: Literal["header", "query", "cookie"] = Field("header", alias="in", description="where the key is sent")
    name: str = Field(min_length=1, description="the name of the header, parameter or cookie")
    key: Template

    @model_validator(mode="after")
    def _consistent(self) -> ApiKeyAuth:
        if self.send_in != "query" and not re.fullmatch(_HEADER, self.name):
            raise ValueError(f"`name` is not a valid name of a {self.send_in}: {self.name!r}")
        return self


class OAuth2Auth(Auth):
    """OAuth 2 (RFC 6749). The access token is requested once for all tables and processes, and renewed before it expires."""

    templates = ("token_url", "client_id", "client_secret", "scope", "refresh_token", "authorize_url", "extra")
    type: Literal["oauth2"]
    grant: Literal["client_credentials", "refresh_token", "authorization_code"] = "client_credentials"
    token_url: Template
    client_id: Template
    client_secret: Template | None = None
    client_in: Literal["header", "body"] = Field("header", description="how the client authenticates (RFC 6749, 2.3.1)")
    scope: Template | None = None
    refresh_token: Template | None = Field(None, description="grant refresh_token: the first refresh token")
    authorize_url: Template | None = Field(None, description="grant authorization_code: where a person signs in")
    extra: dict[str, Template] = Field(default_factory=dict, description="more fields of the token request")

    @model_validator(mode="after")
    def _consistent(self) -> OAuth2Auth:
        needed = {"refresh_token": "refresh_token", "authorization_code": "authorize_url"}.get(self.grant)
        for name in ("refresh_token", "authorize_url"):
            if (getattr(self, name) is not None) != (name == needed):
                raise ValueError(f"the grant {self.grant} {'needs' if name == needed else 'has no'} `{name}`")
        return self


class SignerAuth(Auth):
    """A Python file in the data folder's `signers`, whose sign() adds headers to each request."""

    type: Literal["signer"]
    name: Name = Field(description="the name of the file, without `.py`")


_MEMBERS: dict[str, type[Model]] = {
    "api_key": ApiKeyAuth,
    "basic": BasicAuth,
    "bearer": BearerAuth,
    "oauth2": OAuth2Auth,
    "signer": SignerAuth,
}


def oauth_of(auth: Auth | None) -> OAuth2Auth | None:
    """The auth, if it is OAuth 2."""
    return auth if isinstance(auth, OAuth2Auth) else None
