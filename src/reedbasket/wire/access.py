"""Health, errors, sign-in and people, as answers show them."""

from __future__ import annotations

from typing import Any, Literal

from typing_extensions import TypedDict

Role = Literal["viewer", "operator", "editor", "admin"]


class Health(TypedDict):
    """Whether the service is up."""

    status: Literal["ok"]
    version: str


class Readiness(TypedDict):
    """workers: how many are up, of how many. problems: why it is not ready, in words."""

    ready: bool
    workers: int
    problems: list[str]


class ErrorFacts(TypedDict):
    """What core.errors.ReedError holds."""

    code: str
    doing: str
    on: str
    found: str
    fix: str
    retryable: bool
    wait_seconds: float | None
    details: Any


class SecretName(TypedDict):
    """kept: in the store, sealed; environment or file: there, and only read by workers. changed_at: of one in the store."""

    name: str
    kept: Literal["store", "environment", "file"]
    changed_at: str | None


class SignInCode(TypedDict):
    """A link into the console."""

    code: str
    url: str


class Session(TypedDict):
    """user: null where the session came of a link for whoever holds the machine's token."""

    signed_in: bool
    name: str
    role: Role
    user: str | None


class SignInWays(TypedDict):
    """Beside a name with its password, and a link. openid: the host of the provider, null where there is none."""

    openid: str | None


class User(TypedDict):
    """openid: they sign in by OpenID Connect, which says what their role is."""

    name: str
    role: Role
    created_at: str
    disabled: bool
    has_password: bool
    openid: bool


class Token(TypedDict):
    """id: the beginning of its hash; the token itself was shown once."""

    id: str
    label: str
    role: Role
    made_by: str
    created_at: str
    ends_at: str | None
    used_at: str | None


class NewToken(TypedDict):
    """A token, shown this once."""

    token: str


class AuditLine(TypedDict):
    """Who did what."""

    id: int
    at: str
    who: str
    what: str
    on: str
    status: int
    details: str


class Problem(TypedDict):
    """RFC 9457. `code` is stable; `mistakes` only for definitions."""

    type: str
    title: str
    status: int
    detail: str
    code: str
    doing: str
    on: str
    found: str
    fix: str
    details: Any


class Setting(TypedDict):
    """One option of `reed serve`. changeable: while the service runs; began_with: what it was started with, where it was changed
    since."""

    name: str
    value: str
    changeable: bool
    began_with: str | None
