"""Health, errors, sign-in and people in API answers."""

from __future__ import annotations

from typing import Any, Literal

from typing_extensions import TypedDict

Role = Literal["viewer", "operator", "editor", "admin"]


class Health(TypedDict):
    """Whether the service is up."""

    status: Literal["ok"]
    version: str


class Readiness(TypedDict):
    """Whether the service is ready. `workers`: how many are up, of how many. `problems`: why it is not ready, in words."""

    ready: bool
    workers: int
    problems: list[str]


class ErrorFacts(TypedDict):
    """The facts of an error; see core.errors.ReedError."""

    code: str
    doing: str
    on: str
    found: str
    fix: str
    retryable: bool
    wait_seconds: float | None
    details: Any


class SecretName(TypedDict):
    """A secret without its value. `kept`: in the store, encrypted; or in the environment or a file, where only workers read it.
    `changed_at`: for one in the store.
    """

    name: str
    kept: Literal["store", "environment", "file"]
    changed_at: str | None


class SignInCode(TypedDict):
    """A link into the console."""

    code: str
    url: str


class Session(TypedDict):
    """Who is signed in. `user`: null if the session comes from a link for the holder of this machine's token."""

    signed_in: bool
    name: str
    role: Role
    user: str | None


class SignInWays(TypedDict):
    """How people can sign in, besides a name with a password and a link. `openid`: the provider's host; null if there is none."""

    openid: str | None


class User(TypedDict):
    """A user. `openid`: they sign in by OpenID Connect, which decides their role."""

    name: str
    role: Role
    created_at: str
    disabled: bool
    has_password: bool
    openid: bool


class Token(TypedDict):
    """A token. `id`: the beginning of its hash; the token itself was shown once."""

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
    """A line of the audit log."""

    id: int
    at: str
    who: str
    what: str
    on: str
    status: int
    details: str


class Problem(TypedDict):
    """Problem details (RFC 9457). `code` is stable; `mistakes` is for definitions only."""

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
    """An option of `reed serve`. `changeable`: while the service runs. `began_with`: the value that the service was started with, if it
    was changed since.
    """

    name: str
    value: str
    changeable: bool
    began_with: str | None
