"""What shows a source who is asking, as pydantic models."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, model_validator

from .fields import Model, Name, Template

_HEADER = r"^[A-Za-z0-9!#$%&'*+.^_`|~-]+$"


class Basic(Model):
    """User and password in the Authorization header (RFC 7617)."""

    user: Template
    password: Template


class OAuth(Model):
    """OAuth 2 (RFC 6749). The access token is fetched once for all tables and processes, and renewed before it ends."""

    grant: Literal["client_credentials", "refresh_token", "authorization_code"] = "client_credentials"
    token_url: Template
    client_id: Template
    client_secret: Template | None = None
    client_in: Literal["header", "body"] = Field("header", description="how the client shows itself (RFC 6749, 2.3.1)")
    scope: Template | None = None
    refresh_token: Template | None = Field(None, description="with the grant refresh_token: the first one")
    authorize_url: Template | None = Field(None, description="with authorization_code: where a person signs in")
    extra: dict[str, Template] = Field(default_factory=dict, description="further fields of the token request")

    @model_validator(mode="after")
    def _consistent(self) -> OAuth:
        needed = {"refresh_token": "refresh_token", "authorization_code": "authorize_url"}.get(self.grant)
        for name in ("refresh_token", "authorize_url"):
            if (getattr(self, name) is not None) != (name == needed):
                raise ValueError(f"the grant {self.grant} {'needs' if name == needed else 'has no'} `{name}`")
        return self


class Auth(Model):
    """Exactly one of bearer, basic, key, oauth and sign; a key goes by a header, a parameter or a cookie."""

    bearer: Template | None = Field(None, description="sent as `Authorization: Bearer …` (RFC 6750)")
    basic: Basic | None = None
    key: Template | None = Field(None, description="sent as `header`, `query` or `cookie` says")
    header: Annotated[str, Field(pattern=_HEADER)] | None = None
    query: str | None = None
    cookie: Annotated[str, Field(pattern=_HEADER)] | None = None
    oauth: OAuth | None = None
    sign: Name | None = Field(None, description="a Python file in the data folder's `signers`, whose sign() adds headers")

    @model_validator(mode="after")
    def _consistent(self) -> Auth:
        ways = [name for name in ("bearer", "basic", "key", "oauth", "sign") if getattr(self, name) is not None]
        if len(ways) != 1:
            raise ValueError("say one of bearer, basic, key, oauth and sign" + (f", not {' and '.join(ways)}" if ways else ""))
        places = [name for name in ("header", "query", "cookie") if getattr(self, name) is not None]
        if len(places) != (1 if self.key is not None else 0):
            raise ValueError(
                "a key needs one of header, query and cookie" if self.key is not None else f"`{places[0]}` goes with `key`"
            )
        return self
