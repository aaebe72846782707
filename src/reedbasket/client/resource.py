"""What the parts of a client have in common."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any, TypeVar
from urllib.parse import quote

from .caller import Caller

# `list` where a class has a method of that name.
T = TypeVar("T")
Listed = list[T]
# Of lists that go on page by page.
PAGE = 200


class Resource:
    """A part of the service, by the client's connection."""

    def __init__(self, caller: Caller) -> None:
        self._caller = caller
        self._call = caller.call


def part(text: str) -> str:
    """A name as a part of a path."""
    return quote(text, safe="")


def pages(load: Callable[[Any], list[Any]], place: Callable[[Any], Any], start: Any = None) -> Iterator[Any]:
    """All items of a list.

    Args:
        load: loads one page, which begins where the last one ended.
        place: of an item.
        start: where the first page begins.
    """
    at = start
    while page := load(at):
        yield from page
        at = place(page[-1])
