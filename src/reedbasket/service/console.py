"""Serves the built console: its files by their hashed names, and its page at its addresses."""

from __future__ import annotations

import secrets
from html import escape
from pathlib import Path

from flask import Blueprint, Response, current_app, request, send_from_directory

from .parts import Parts

FOLDER = Path(__file__).parent / "static"

blueprint = Blueprint("console", __name__)

# The console needs nothing from anywhere else. Styles are made in the page, by scripts that show this page's nonce.
_POLICY = (
    "default-src 'self'; style-src 'self' 'nonce-{nonce}'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'self'; "
    "form-action 'self'; object-src 'none'"
)


@blueprint.get("/assets/<path:name>")
def asset(name: str) -> Response:
    """A file of the console's build; its name changes with its content."""
    answer = send_from_directory(FOLDER / "assets", name)
    answer.headers["Cache-Control"] = "public, max-age=31536000, immutable"
    return answer


def page(**_: str) -> Response:
    """The console's only page; its router decides what an address shows."""
    if not (FOLDER / "index.html").exists():
        return Response(
            "The console is not built: run `make console`. The API is at /api/v1.\n", 503, content_type="text/plain"
        )
    parts: Parts = current_app.extensions["reed"]
    parts.inspection.get_ready()
    nonce = secrets.token_urlsafe(16)
    text = (FOLDER / "index.html").read_text("utf-8")
    # Everything in the page is found from here, wherever a proxy has put the service.
    text = text.replace('<base href="/" />', f'<base href="{escape(request.script_root)}/" />')
    text = text.replace('name="nonce" content=""', f'property="csp-nonce" content="{nonce}"')
    answer = Response(text, content_type="text/html; charset=utf-8")
    answer.headers["Cache-Control"] = "no-cache"
    answer.headers["Content-Security-Policy"] = _POLICY.format(nonce=nonce)
    answer.headers["X-Content-Type-Options"] = "nosniff"
    answer.headers["Referrer-Policy"] = "no-referrer"
    return answer


# The console's addresses, as in console/src/main.tsx. Not a pattern for everything: what is no page must be a 404.
for _rule in (
    "/",
    "/sign-in",
    "/feeds",
    "/feeds/<feed>",
    "/new",
    "/workbench",
    "/map",
    "/rejects",
    "/schedules",
    "/settings",
    "/sources",
    "/sources/<source>",
    "/runs",
    "/runs/<run>",
    "/warehouses/<warehouse>",
    "/warehouses/<warehouse>/<table>",
):
    blueprint.add_url_rule(_rule, "page", page, methods=["GET"])
