"""Definitions, as answers show them."""

from __future__ import annotations

from typing import Any, Literal

from typing_extensions import TypedDict


class Applied(TypedDict):
    """diff: as unified diffs are written, of the definition as YAML."""

    kind: str
    name: str
    version: int
    change: Literal["new", "changed", "same", "removed"]
    diff: str


class Definition(TypedDict):
    """One that is in force."""

    kind: str
    name: str
    version: int
    data: dict[str, Any]
    file: str
    applied_at: str
    applied_by: str


class FormField(TypedDict):
    """One thing that is asked of who describes a source. key: where it stands in the definition. start: at first; None for nothing. values:
    the only ones, the one that holds where nothing is said first. secret: the name of one; own: at first one of the definition's own."""

    key: list[str]
    label: str
    example: str
    start: str | int | None
    values: list[str]
    number: bool
    secret: bool
    own: bool


class Form(TypedDict):
    """One thing that a source can be. setup: an administrator has to let us in, by statements that the service knows."""

    title: str
    type: str
    setup: bool
    fields: list[FormField]


class Version(TypedDict):
    """diff: to the version before it. removed: with it the definition was taken away."""

    kind: str
    name: str
    version: int
    file: str
    applied_at: str
    applied_by: str
    removed: bool
    diff: str
