"""Health, errors and sign-in, as answers show them."""

from __future__ import annotations

from typing import Any, Literal

from typing_extensions import TypedDict


class Health(TypedDict):
    status: Literal["ok"]
    version: str


class ErrorFacts(TypedDict):
    """What core.errors.ReedError holds."""

    code: str
    doing: str
    on: str
    found: str
    mend: str
    retryable: bool
    wait_seconds: float | None
    details: Any


class SecretName(TypedDict):
    name: str
    changed_at: str


class SignInCode(TypedDict):
    code: str
    url: str


class Session(TypedDict):
    signed_in: bool


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
    mend: str
    details: Any
