"""The Link header (RFC 8288, section 3): addresses in angle brackets, each with parameters. Both may contain commas."""

from __future__ import annotations

import re

_LINK = re.compile(r"""\s*<([^>]*)>((?:\s*;\s*[^\s=;,"]+(?:\s*=\s*(?:"(?:[^"\\]|\\.)*"|[^\s;,"]*))?)*)\s*(?:,|$)""")
_PARAMETER = re.compile(r"""([^\s=;,"]+)\s*=\s*(?:"((?:[^"\\]|\\.)*)"|([^\s;,"]*))""")


def next_link(header: str, relation: str) -> str | None:
    """The address of the first link of a relation type. Case does not matter, and a link may have several types."""
    at = 0
    while match := _LINK.match(header, at):
        at = match.end()
        for name, quoted, plain in _PARAMETER.findall(match[2]):
            if name.lower() == "rel" and relation.lower() in (quoted or plain).lower().split():
                return match[1]
    return None
