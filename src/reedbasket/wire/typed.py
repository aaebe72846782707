"""Facts that come from rows and from core, as the answers that they are."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any, TypeVar, cast

_Answer = TypeVar("_Answer")


def typed(kind: type[_Answer], facts: Mapping[str, Any] | Iterable[tuple[str, Any]], **more: Any) -> _Answer:
    """Facts as an answer of a kind.

    Args:
        kind: one of the typed dictionaries of this package.
        facts: its values by name; a row of the store.
        more: further values, which win over those in `facts`.

    Raises:
        AssertionError: one that the kind always has is missing, so that the answer would not be true to the document.
    """
    found = dict(facts) | more
    missing = kind.__required_keys__ - found.keys()  # type: ignore[attr-defined]
    assert not missing, f"{kind.__name__} lacks {', '.join(sorted(missing))}"
    return cast(_Answer, found)
