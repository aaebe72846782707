"""The records of a page, from its body."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ...errors import RecordsNotFound


def pick_records(
    find: Callable[[Any], Any], path: str, body: Any, doing: str, *, lone: bool = False, empty: bool = False
) -> tuple[list[dict[str, Any]], list[Any]]:
    """(objects, other members) of the list at a JMESPath.

    Args:
        lone: a single object counts as a list of one, and nothing as an empty list, as in XML, where the outermost element shows that the
            place is right.
        empty: nothing counts as an empty list.

    Raises:
        RecordsNotFound: there is no list.
    """
    found = find(body)
    if empty and found is None:
        found = []
    if lone and isinstance(found, dict):
        found = [found]
    if lone and found is None and isinstance(body, dict) and path.split(".")[0].strip('"') in body:
        found = []
    if not isinstance(found, list):
        what = "nothing" if found is None else f"a {_json_kind(found)}"
        has = f"; the body is an object with {', '.join(list(body)[:12])}" if isinstance(body, dict) else ""
        raise RecordsNotFound(
            doing,
            found=f"{what} at `{path}` where a list of records must be{has}",
            fix="point `records` at the list (a JMESPath)"
            + ("; if the source leaves it out where there are none, say `missing_means_empty: true`" if found is None else ""),
        )
    return objects_of(found)


def objects_of(found: list[Any]) -> tuple[list[dict[str, Any]], list[Any]]:
    """(objects, other members) of a list."""
    # set(map(type, ...)) costs 15 ns a record; a loop with isinstance four times that.
    if set(map(type, found)) <= {dict}:
        return found, []
    return [r for r in found if type(r) is dict], [r for r in found if type(r) is not dict]


def _json_kind(value: Any) -> str:
    kinds = {dict: "object", str: "text", bool: "true or false", int: "number", float: "number"}
    return kinds.get(type(value), type(value).__name__)
