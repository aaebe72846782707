"""A mail server that keeps what it is sent, and shows it on a page: nobody outside of the demo gets any."""

from __future__ import annotations

import asyncio
import threading
from email import message_from_bytes, policy
from html import escape
from typing import Any

from aiosmtpd.smtp import SMTP
from flask import Flask

_MOST_KEPT = 200


class Sink:
    """`_lock` guards `mails`, which the server's thread adds to: [(from, to, subject, text)], the latest last."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._mails: list[tuple[str, str, str, str]] = []

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:  # noqa: D102, N802 - as the library has it
        message = message_from_bytes(envelope.content, policy=policy.default)
        body = message.get_body(("plain",))
        text = body.get_content() if body is not None else ""
        with self._lock:
            self._mails.append((envelope.mail_from, ", ".join(envelope.rcpt_tos), str(message["subject"]), text))
            del self._mails[:-_MOST_KEPT]
        return "250 kept"

    @property
    def mails(self) -> list[tuple[str, str, str, str]]:
        """What was sent so far: (from, to, subject, text)."""
        with self._lock:
            return list(self._mails)


def serve_post() -> tuple[Flask, str, Sink]:
    """(the page, the mail server's host:port, what it keeps)"""
    sink = Sink()
    loop = asyncio.new_event_loop()
    server = loop.run_until_complete(loop.create_server(lambda: SMTP(sink, hostname="post", loop=loop), "127.0.0.1", 0))
    port = server.sockets[0].getsockname()[1]
    threading.Thread(target=loop.run_forever, name="post", daemon=True).start()
    app = Flask("post")

    @app.get("/")
    def page() -> str:
        found = "".join(
            f"<article><h2>{escape(subject)}</h2><p>to {escape(to)}</p><pre>{escape(text)}</pre></article>"
            for _, to, subject, text in reversed(sink.mails)
        )
        return (
            "<!doctype html><title>Post</title><style>body{font:16px/1.5 sans-serif;max-width:60em;margin:2em auto;color:#1c2b2d}"
            "article{border-top:1px solid #b9c6c4;padding:.5em 0}pre{white-space:pre-wrap}</style>"
            f"<h1>Post of Sedge Ferries</h1>{found or '<p>No mail yet.</p>'}"
        )

    @app.get("/mails.json")
    def listed() -> list[dict[str, str]]:
        return [dict(zip(("from", "to", "subject", "text"), mail)) for mail in sink.mails]

    return app, f"127.0.0.1:{port}", sink
