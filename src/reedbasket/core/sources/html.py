"""An HTML page in place of data: a sign-in page or a proxy's error page."""

from __future__ import annotations

_MARK = b"\xef\xbb\xbf"


def is_html(start: bytes) -> bool:
    """Whether a body is an HTML page.

    Args:
        start: its first bytes, some 500 of them.
    """
    return start.removeprefix(_MARK).lstrip()[:14].lower().startswith((b"<!doctype html", b"<html"))
