"""Who hears of what: real mail, signed web calls, grouped, once, and shown where they could not be delivered."""

from __future__ import annotations

import asyncio
import base64
import hashlib
import hmac
import re
import sqlite3
import ssl
import threading
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from aiosmtpd.smtp import SMTP

from reedbasket.demo.post import Sink, serve_post
from tests.conftest import RunningService
from tests.service.test_schedule import API, wait_for
from tests.support.certificates import Authority
from tests.support.source import Answer, Request, serving

FEED = """---
feed: {name}
from: readings
into: marsh
table_prefix: {name}_
tables: [{{table: readings, changes: {{by: window, from: {since}}}, write: append}}]
{more}
"""


def mails(sink: Any, count: int) -> list[tuple[str, str, str, str]]:
    found: list[tuple[str, str, str, str]] = wait_for(lambda: sink.mails if len(sink.mails) >= count else None, 40)
    return found


def test_a_broken_source_sends_one_mail_and_one_when_it_runs_again(tmp_path: Path) -> None:
    _, server, sink = serve_post()
    broken = [True]
    # All are told of within one notification, however long it takes until the last of them has begun: nobody is answered before,
    # and with a refusal that is not tried again.
    asked, all_asked = set[str](), threading.Event()

    def answer(request: Request) -> Answer:
        asked.add(request.query["from"])
        if len(asked) == 7:
            all_asked.set()
        all_asked.wait(90)
        return Answer({"sorry": 1}, 400) if broken[0] else Answer({"items": [{"at": request.query["from"]}]})

    service = RunningService(
        tmp_path / "data",
        "--mail-server",
        server,
        "--mail-tls",
        "none",
        "--notification-seconds",
        "5",
        "--workers",
        "8",
        "--mail-to",
        "data@sedge.example",
    )
    try:
        with serving(answer) as source:
            service.client.secrets.set("t", "not-shown")
            names = [f"f{n}" for n in range(6)]
            # One window each, that begins at its own minute.
            since = [f"{datetime.now(UTC) - timedelta(hours=25, minutes=n):%Y-%m-%dT%H:%M:00Z}" for n in range(7)]
            feeds = "".join(FEED.format(name=name, since=at, more="") for name, at in zip(names, since, strict=False))
            api = API.replace("tables:", "rate_limit: {{concurrency: 8}}\ntables:", 1)
            quiet = FEED.format(name="quiet", since=since[6], more="notify: {events: []}")
            service.client.definitions.apply({"b.yaml": api.format(url=source.url, source="") + feeds + quiet})
            runs = [service.client.feeds.run(name)["id"] for name in [*names, "quiet"]]
            wait_for(lambda: all(service.client.runs.get(run)["outcome"] == "failed" for run in runs), 120)
            (_, to, subject, text) = mails(sink, 1)[0]
            assert (to, subject) == ("data@sedge.example", "Reed Basket: 6 feeds failed")
            assert text.startswith("6 of these read from readings: check that first.")
            assert "it answered 400" in text
            assert "quiet" not in text
            for name in names[:2]:
                service.client.feeds.run(name, wait_seconds=30)  # it fails once more, and nobody is told again
            broken[0] = False
            assert service.client.feeds.run("f0", wait_seconds=30)["outcome"] == "succeeded"
            subject, text = mails(sink, 2)[1][2:]
            assert subject == "Reed Basket: f0 runs again"
            days = re.search(r"([\d,]+) read, ([\d,]+) inserted; 1 tables, reconciled", text)
            assert days is not None
            assert days[1] == days[2]
            assert len(sink.mails) == 2
            # A mail is there before it is noted that it went.
            wanted = {("failed", name, "sent") for name in names} | {("recovered", "f0", "sent")}
            wait_for(lambda: {(n["event"], n["feed"], n["state"]) for n in service.client.notifications.list()} == wanted)
    finally:
        service.stop()


@pytest.mark.parametrize("way", ["starttls", "tls"])
def test_mail_goes_by_tls_and_only_to_a_server_that_proves_itself(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, way: str
) -> None:
    authority, cert, key = Authority(tmp_path, "sedge"), tmp_path / "cert.pem", tmp_path / "key.pem"
    authority.issue("localhost", cert, key)
    context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
    context.load_cert_chain(cert, key)
    sink, loop = Sink(), asyncio.new_event_loop()
    later: dict[str, Any] = {"tls_context": context, "require_starttls": True} if way == "starttls" else {}
    tls_context = None if later else context
    made = loop.create_server(lambda: SMTP(sink, hostname="post", loop=loop, **later), "127.0.0.1", 0, ssl=tls_context)
    server = f"localhost:{loop.run_until_complete(made).sockets[0].getsockname()[1]}"
    threading.Thread(target=loop.run_forever, daemon=True).start()
    options = ["--mail-server", server, "--mail-tls", way, "--notification-seconds", "0", "--mail-to", "data@sedge.example"]
    with serving(lambda _: Answer({}, 503)) as source:
        for name, trusted in (("stranger", False), ("known", True)):
            if trusted:
                monkeypatch.setenv("SSL_CERT_FILE", str(authority.root))
            service = RunningService(tmp_path / name, *options)
            try:
                service.client.secrets.set("t", "not-shown")
                basket = API.format(url=source.url, source="") + FEED.format(name="f", since="2026-11-26", more="")
                service.client.definitions.apply({"b.yaml": basket})
                service.client.feeds.run("f", wait_seconds=30)
                told = wait_for(lambda: next((n for n in service.client.notifications.list() if n["tries"]), None))  # noqa: B023
                assert (told["state"], "certificate verify failed" in told["problem"]) == (
                    "sent" if trusted else "waiting",
                    not trusted,
                )
            finally:
                service.stop()
    assert [subject for _, _, subject, _ in sink.mails] == ["Reed Basket: f failed"]


def verified(request: Request, key: bytes, url: str) -> bool:
    """As RFC 9421 (section 3.2) and RFC 9530 tell a receiver to."""
    headers = request.headers
    digest = "sha-256=:" + base64.b64encode(hashlib.sha256(request.body).digest()).decode() + ":"
    inputs = re.fullmatch(
        r'reed=((\("@method" "@target-uri" "content-type" "content-digest"\));created=(\d+);.*)', headers["signature-input"]
    )
    if inputs is None or digest != headers["content-digest"] or abs(time.time() - int(inputs[3])) > 60:
        return False
    lines = [
        '"@method": POST',
        f'"@target-uri": {url}',
        f'"content-type": {headers["content-type"]}',
        f'"content-digest": {digest}',
    ]
    base = "\n".join([*lines, f'"@signature-params": {inputs[1]}'])
    expected = base64.b64encode(hmac.new(key, base.encode(), hashlib.sha256).digest()).decode()
    return hmac.compare_digest(headers["signature"], f"reed=:{expected}:")


def test_web_calls_are_signed_events_and_are_tried_until_they_arrive(tmp_path: Path) -> None:
    from json import loads

    heard: list[tuple[bool, list[dict[str, Any]]]] = []
    refusing = [True]
    address: list[str] = []

    def hook(request: Request) -> Answer:
        heard.append((verified(request, b"hook-secret", address[0]), loads(request.body)))
        return Answer({}, 500 if refusing[0] else 204)

    def answer(request: Request) -> Answer:
        return Answer({"items": [{"at": request.query["from"]}, {"at": request.query["from"], "n": [1, 2]}, "no object"]})

    service = RunningService(tmp_path / "data", "--notification-seconds", "1")
    try:
        with serving(answer) as source, serving(hook) as receiver:
            address.append(f"{receiver.url}/hook")
            service.client.secrets.set("t", "not-shown")
            service.client.secrets.set("hook", "hook-secret")
            where = f"{{url: '{address[0]}', secret: {{secret: hook}}}}"
            more = f"notify: {{events: [succeeded, rejects, late], webhook: [{where}]}}\nfresh_within: 1s"
            service.client.definitions.apply(
                {"b.yaml": API.format(url=source.url, source="") + FEED.format(name="f", since="2026-11-26", more=more)}
            )
            wait_for(lambda: [n for n in service.client.notifications.list() if n["event"] == "late"])
            assert service.client.feeds.get("f")["late"]
            run = service.client.feeds.run("f", wait_seconds=30)
            wait_for(lambda: heard, 40)
            problem = wait_for(lambda: next((n for n in service.client.notifications.list() if n["problem"]), None))
            assert (problem["state"], problem["problem"], problem["tries"]) == ("waiting", "it answered 500", 1)
            refusing[0] = False
            db = sqlite3.connect(service.folder / "service.db")
            db.execute("update notification set next_at = '2026-01-01T00:00:00.000Z'")
            db.commit()
            db.close()
            wait_for(lambda: all(n["state"] == "sent" for n in service.client.notifications.list()), 40)
    finally:
        service.stop()
    assert all(signed for signed, _ in heard)
    events = {event["id"]: event for _, batch in heard for event in batch}
    assert {event["type"] for event in events.values()} >= {"reedbasket.feed.succeeded", "reedbasket.feed.rejects"}
    told = next(event for event in events.values() if event["type"] == "reedbasket.feed.succeeded")
    assert (told["specversion"], told["subject"], told["data"]["run"]) == ("1.0", "f", run["id"])
    assert told["data"]["counts"]["rejected"] == run["totals"]["rejected"] > 0
    assert told["source"].endswith("/feeds/f")


def test_what_cannot_be_delivered_is_shown_and_can_be_sent_again(tmp_path: Path) -> None:
    service = RunningService(
        tmp_path / "data",
        "--mail-server",
        "127.0.0.1:9",
        "--mail-tls",
        "none",
        "--notification-seconds",
        "3",
        "--mail-to",
        "data@sedge.example",
    )
    try:
        with serving(lambda _: Answer({}, 503)) as source:
            service.client.secrets.set("t", "not-shown")
            service.client.definitions.apply(
                {"b.yaml": API.format(url=source.url, source="") + FEED.format(name="f", since="2026-11-26", more="")}
            )
            service.client.feeds.run("f", wait_seconds=30)
        # The notification is noted after the run has ended, which may be after its result is asked for.
        wait_for(lambda: [notification["tries"] for notification in service.client.notifications.list()] == [1], 40)
        db = sqlite3.connect(service.folder / "service.db")
        db.execute("update notification set tries = 9, next_at = '2026-01-01T00:00:00.000Z'")
        db.commit()
        db.close()
        given_up = wait_for(lambda: service.client.notifications.list(state="undeliverable"))[0]
        assert "Connection refused" in given_up["problem"]
        assert service.client.notifications.retry()["count"] == 1
        wait_for(lambda: [notification["tries"] for notification in service.client.notifications.list()] == [1])
    finally:
        service.stop()
