"""Rows of the store and facts of the core, as the typed answers that they are."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any, TypeVar, cast

_Answer = TypeVar("_Answer")


def typed(kind: type[_Answer], facts: Mapping[str, Any] | Iterable[tuple[str, Any]], **more: Any) -> _Answer:
    """Facts as an answer of one type.

    Args:
        kind: a typed dictionary of this package.
        facts: its values by name; a row of the store.
        more: further values, which override those in `facts`.

    Raises:
        AssertionError: a value that the type requires is missing, so the answer would not match its document.
    """
    found = dict(facts) | more
    missing = kind.__required_keys__ - found.keys()  # type: ignore[attr-defined]
    assert not missing, f"{kind.__name__} lacks {', '.join(sorted(missing))}"
    return cast(_Answer, found)
