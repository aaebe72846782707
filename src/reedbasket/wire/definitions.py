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
