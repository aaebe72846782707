"""Definitions, as answers show them."""

from __future__ import annotations

from typing import Any, Literal

from typing_extensions import TypedDict


class Applied(TypedDict):
    kind: str
    name: str
    version: int
    change: Literal["new", "changed", "same"]


class Definition(TypedDict):
    kind: str
    name: str
    version: int
    data: dict[str, Any]
    file: str
    applied_at: str
