"""Sending notifications, by mail and to webhooks as CloudEvents."""

from __future__ import annotations

import base64
import hashlib
import hmac
import json
import smtplib
import ssl
import time
from collections.abc import Sequence
from datetime import UTC, datetime
from email.message import EmailMessage
from email.utils import format_datetime

import urllib3

from ...core.errors import ReedError
from ...store import Store, secrets
from ...store.notifications import Notification
from ..settings import Settings
from ..words import mail_subject, mail_text

PASSWORD_SECRET = "mail_password"
_TIMEOUT_SECONDS = 20.0


class SendFailure(Exception):
    """Why it failed, in words without secrets."""


def send(store: Store, own: Settings, url: str, group: Sequence[Notification]) -> str:
    """Send notifications to one place, together. Returns why that failed; '' if it did not.

    Args:
        url: where people find the console.
    """
    try:
        if group[0].channel == "email":
            _mail(store, own, url, group)
        else:
            _post(store, url, group)
    except SendFailure as why:
        return str(why)
    except ReedError as error:  # a secret that is not there
        return f"{error.code}: {error.found or error.doing}"
    return ""


def _mail(store: Store, own: Settings, url: str, group: Sequence[Notification]) -> None:
    if not own.mail_server:
        raise SendFailure("no mail server is set; start the service with --mail-server")
    message = EmailMessage()
    message["Subject"], message["From"], message["To"] = mail_subject(group), own.mail_from, group[0].goes_to
    message["Date"] = format_datetime(datetime.now(UTC))
    # The same for every try: a server that took it and did not say so is not given a second one to show.
    message["Message-ID"] = (
        f"<reed-{'-'.join(str(one.id) for one in group[:1])}-{len(group)}@{own.mail_from.rpartition('@')[2]}>"
    )
    message["Auto-Submitted"] = "auto-generated"  # RFC 3834: nobody's holiday reply comes back
    message.set_content(mail_text(group, url))
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
                server.login(own.mail_user, secrets.reveal_secret(store, PASSWORD_SECRET))
            server.send_message(message)
    except smtplib.SMTPResponseException as error:
        said = error.smtp_error.decode("utf-8", "replace") if isinstance(error.smtp_error, bytes) else str(error.smtp_error)
        raise SendFailure(f"the mail server answered {error.smtp_code} {said[:200]}") from error
    except (OSError, ValueError, smtplib.SMTPException) as error:
        raise SendFailure(f"mail server {own.mail_server}: {type(error).__name__}: {str(error)[:200]}") from error


def _post(store: Store, url: str, group: Sequence[Notification]) -> None:
    first = group[0]
    body = json.dumps([_event(one, url) for one in group], ensure_ascii=False).encode()
    headers = {"content-type": "application/cloudevents-batch+json; charset=utf-8", "user-agent": "reed-basket"}
    if first.secret is not None:
        headers |= signed(
            "POST",
            first.goes_to,
            headers["content-type"],
            body,
            first.secret,
            secrets.reveal_secret(store, first.secret),
        )
    try:
        answer = urllib3.request(
            "POST", first.goes_to, body=body, headers=headers, timeout=_TIMEOUT_SECONDS, retries=False, redirect=False
        )
    except (urllib3.exceptions.HTTPError, OSError) as error:
        raise SendFailure(f"{type(error).__name__}: {str(error)[:200]}") from error
    if not 200 <= answer.status < 300:
        raise SendFailure(f"it answered {answer.status}")


def _event(notification: Notification, url: str) -> dict[str, object]:
    """https://github.com/cloudevents/spec, version 1.0: the same id for every try."""
    return {
        "specversion": "1.0",
        "id": f"notification-{notification.id}",
        "source": f"{url}/feeds/{notification.feed}",
        "type": f"reedbasket.feed.{notification.event}",
        "time": notification.at,
        "subject": notification.feed,
        "datacontenttype": "application/json",
        "data": {"feed": notification.feed, "from": notification.source, "run": notification.run, **notification.facts},
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
