"""Sends notices: by mail, and to web addresses as CloudEvents. What cannot be sent is tried again, and shown when it is given up."""

from __future__ import annotations

import base64
import hashlib
import hmac
import json
import logging
import smtplib
import ssl
import threading
import time
from collections.abc import Callable, Sequence
from datetime import UTC, datetime, timedelta
from email.message import EmailMessage
from email.utils import format_datetime

import urllib3

from ..core.errors import ReedError
from ..store import Store, notices, secrets
from ..store.notices import Notice
from .settings import Settings
from .words import mail_subject, mail_text

log = logging.getLogger("reedbasket.notices")
PASSWORD_SECRET = "mail_password"
# 30 s, 1 min, 2 min … an hour: with ten tries some four hours, in which most mail servers are up again.
_MOST_TRIES = 10
_FIRST_PAUSE, _LONGEST_PAUSE = timedelta(seconds=30), timedelta(hours=1)
_TIMEOUT_SECONDS = 20.0
_LOOK_SECONDS = 1.0


class NotSent(Exception):
    """Why, in words without secrets."""


class Notifier:
    """One thread. `url`: where people find the console."""

    def __init__(self, store: Store, settings: Settings, url: Callable[[], str]) -> None:
        self._store = store
        self._settings = settings
        self._url = url
        self._closing = threading.Event()
        self._thread = threading.Thread(target=self._work, name="notifier", daemon=True)

    def start(self) -> None:
        self._thread.start()

    def stop(self) -> None:
        self._closing.set()
        if self._thread.is_alive():
            self._thread.join(2)

    def _work(self) -> None:
        while not self._closing.wait(_LOOK_SECONDS):
            try:
                self.send_due()
            except Exception as error:  # a store that is locked, a disk that is full: they are there the next time
                log.error("notices could not be looked at, and wait: %s", type(error).__name__)
                time.sleep(_LOOK_SECONDS)

    def send_due(self) -> None:
        for group in notices.due(self._store, datetime.now(UTC)):
            ids = [one.id for one in group]
            try:
                self._send(group)
            except NotSent as why:
                tries = group[0].tries
                pause = min(_FIRST_PAUSE * 2**tries, _LONGEST_PAUSE)
                notices.not_sent(self._store, ids, str(why), datetime.now(UTC) + pause, _MOST_TRIES)
                log.warning("%s %s: %s", group[0].way, group[0].goes_to, why)
            else:
                notices.sent(self._store, ids)

    def _send(self, group: Sequence[Notice]) -> None:
        try:
            if group[0].way == "mail":
                self._mail(group)
            else:
                self._post(group)
        except ReedError as error:  # a secret that is not there
            raise NotSent(f"{error.code}: {error.found or error.doing}") from error

    # Mail

    def _mail(self, group: Sequence[Notice]) -> None:
        own = self._settings
        if not own.mail_server:
            raise NotSent("no mail server is set; start the service with --mail-server")
        message = EmailMessage()
        message["Subject"], message["From"], message["To"] = mail_subject(group), own.mail_from, group[0].goes_to
        message["Date"] = format_datetime(datetime.now(UTC))
        # The same for every try: a server that took it and did not say so is not given a second one to show.
        message["Message-ID"] = (
            f"<reed-{'-'.join(str(one.id) for one in group[:1])}-{len(group)}@{own.mail_from.rpartition('@')[2]}>"
        )
        message["Auto-Submitted"] = "auto-generated"  # RFC 3834: nobody's holiday reply comes back
        message.set_content(mail_text(group, self._url()))
        host, _, port = own.mail_server.rpartition(":")
        context = ssl.create_default_context()
        try:
            if own.mail_tls == "tls":
                server: smtplib.SMTP = smtplib.SMTP_SSL(host, int(port), timeout=_TIMEOUT_SECONDS, context=context)
            else:
                server = smtplib.SMTP(host, int(port), timeout=_TIMEOUT_SECONDS)
            with server:
                if own.mail_tls == "starttls":
                    server.starttls(context=context)
                if own.mail_user:
                    server.login(own.mail_user, secrets.reveal_secret(self._store, PASSWORD_SECRET))
                server.send_message(message)
        except smtplib.SMTPResponseException as error:
            said = error.smtp_error.decode("utf-8", "replace") if isinstance(error.smtp_error, bytes) else str(error.smtp_error)
            raise NotSent(f"the mail server answered {error.smtp_code} {said[:200]}") from error
        except (OSError, ValueError, smtplib.SMTPException) as error:
            raise NotSent(f"mail server {own.mail_server}: {type(error).__name__}: {str(error)[:200]}") from error

    # Web

    def _post(self, group: Sequence[Notice]) -> None:
        first = group[0]
        body = json.dumps([self._event(one) for one in group], ensure_ascii=False).encode()
        headers = {"content-type": "application/cloudevents-batch+json; charset=utf-8", "user-agent": "reed-basket"}
        if first.secret is not None:
            headers |= signed(
                "POST",
                first.goes_to,
                headers["content-type"],
                body,
                first.secret,
                secrets.reveal_secret(self._store, first.secret),
            )
        try:
            answer = urllib3.request(
                "POST", first.goes_to, body=body, headers=headers, timeout=_TIMEOUT_SECONDS, retries=False, redirect=False
            )
        except (urllib3.exceptions.HTTPError, OSError) as error:
            raise NotSent(f"{type(error).__name__}: {str(error)[:200]}") from error
        if not 200 <= answer.status < 300:
            raise NotSent(f"it answered {answer.status}")

    def _event(self, notice: Notice) -> dict[str, object]:
        """https://github.com/cloudevents/spec, version 1.0: the same id for every try."""
        return {
            "specversion": "1.0",
            "id": f"notice-{notice.id}",
            "source": f"{self._url()}/feeds/{notice.feed}",
            "type": f"reedbasket.feed.{notice.what}",
            "time": notice.at,
            "subject": notice.feed,
            "datacontenttype": "application/json",
            "data": {"feed": notice.feed, "from": notice.source, "run": notice.run, **notice.facts},
        }


def signed(
    method: str, url: str, content_type: str, body: bytes, key_name: str, key: str, created: int | None = None
) -> dict[str, str]:
    """The headers of an HTTP message signature: RFC 9421 with hmac-sha256, over RFC 9530's Content-Digest."""
    digest = f"sha-256=:{base64.b64encode(hashlib.sha256(body).digest()).decode()}:"
    parameters = (
        '("@method" "@target-uri" "content-type" "content-digest")'
        f';created={created if created is not None else int(time.time())};keyid="{key_name}";alg="hmac-sha256"'
    )
    base = "\n".join(
        [
            f'"@method": {method}',
            f'"@target-uri": {url}',
            f'"content-type": {content_type}',
            f'"content-digest": {digest}',
            f'"@signature-params": {parameters}',
        ]
    )
    found = base64.b64encode(hmac.new(key.encode(), base.encode(), hashlib.sha256).digest()).decode()
    return {"content-digest": digest, "signature-input": f"reed={parameters}", "signature": f"reed=:{found}:"}
