"""Which page comes next. Pure: a body in, the parameters of the next request out."""

from __future__ import annotations

from typing import Any

import jmespath

from ...errors import PagesLooped, RecordsNotFound
from ...spec.model import NextPage


class TokenPages:
    """Pages linked by a token in the body. Remembers the tokens of one pass: met again, the source runs in a circle."""

    def __init__(self, rule: NextPage, doing: str) -> None:
        self._find = jmespath.compile(rule.token)
        self._rule = rule
        self._doing = doing
        self._seen: set[str] = set()

    def after(self, body: Any) -> dict[str, str] | None:
        """Parameters that ask for the page after this body; None where it was the last.

        Raises PagesLooped for a token met before, RecordsNotFound where something other than text or a number stands there.
        """
        token = self._find.search(body)
        if token is None or token == "":
            return None
        if isinstance(token, bool) or not isinstance(token, str | int):
            raise RecordsNotFound(
                self._doing,
                found=f"the next page's token at {self._rule.token} is {type(token).__name__}, not text",
                mend="point `next.token` at the token",
                code="source.token_unreadable",
            )
        text = str(token)
        if text in self._seen:
            raise PagesLooped(
                self._doing,
                found=f"the token {text!r} for the next page came twice in one pass, so the pages run in a circle",
                mend="check `next` in the connector; what was committed stays, and a new run starts from there",
            )
        self._seen.add(text)
        return {self._rule.send_as: text}


def pick_records(find: Any, path: str, body: Any, doing: str) -> tuple[list[dict[str, Any]], list[Any]]:
    """(objects, other members) of the list at a JMESPath. Raises RecordsNotFound where no list stands there."""
    found = find.search(body)
    if not isinstance(found, list):
        what = "nothing" if found is None else f"a {_json_kind(found)}"
        has = f"; the body is an object with {', '.join(list(body)[:12])}" if isinstance(body, dict) else ""
        raise RecordsNotFound(
            doing,
            found=f"{what} at `{path}` where a list of records must be{has}",
            mend="point `records` at the list (a JMESPath)",
        )
    # set(map(type, ...)) costs 15 ns a record; a loop with isinstance four times that.
    if set(map(type, found)) <= {dict}:
        return found, []
    return [r for r in found if type(r) is dict], [r for r in found if type(r) is not dict]


def _json_kind(value: Any) -> str:
    kinds = {dict: "object", str: "text", bool: "true or false", int: "number", float: "number"}
    return kinds.get(type(value), type(value).__name__)
