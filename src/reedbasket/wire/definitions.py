"""Definitions in API answers."""

from __future__ import annotations

from typing import Any, Literal

from typing_extensions import TypedDict


class ApplyResult(TypedDict):
    """What happened to one definition. `diff`: a unified diff of its YAML."""

    kind: str
    name: str
    version: int
    change: Literal["new", "changed", "same", "removed"]
    diff: str


class Definition(TypedDict):
    """A definition in force."""

    kind: str
    name: str
    version: int
    data: dict[str, Any]
    file: str
    applied_at: str
    applied_by: str


class FormField(TypedDict):
    """A field of a form for sources. `key`: of the definition. `start`: the initial value; null for none. `values`: the only possible
    ones, the default first. `secret`: the name of one; `own`: initially one of the definition's own.
    """

    key: list[str]
    label: str
    example: str
    start: str | int | None
    values: list[str]
    number: bool
    secret: bool
    own: bool


class Form(TypedDict):
    """One kind of source. `setup`: an administrator has to grant access by statements that the service knows."""

    title: str
    type: str
    setup: bool
    fields: list[FormField]


class Version(TypedDict):
    """A version of a definition. `diff`: to the version before it. `removed`: this version removed the definition."""

    kind: str
    name: str
    version: int
    file: str
    applied_at: str
    applied_by: str
    removed: bool
    diff: str
