"""OAuth 2 (RFC 6749, with PKCE of RFC 7636): access tokens are requested once for all processes, and renewed before they expire."""

from __future__ import annotations

import base64
import hashlib
import secrets
import threading
import time
from collections.abc import Callable, Mapping
from contextlib import AbstractContextManager
from dataclasses import dataclass
from typing import Any, Protocol
from urllib.parse import quote, urlencode

import orjson
from typing_extensions import override

from ...errors import SignInFailed, SignInNeeded
from ...masking import Mask
from ...spec import template
from ...spec.auth import OAuth2Auth
from .answers import Answer
from .authentication import SignIn
from .credentials import Credentials
from .request import Request

_DOING = "fetching an access token"
# A token is renewed this long before it ends, or in the last fifth of its life, whichever is later.
_RENEW_BEFORE_SECONDS = 60.0
_RENEW_BEFORE_PART = 0.2


@dataclass(frozen=True)
class Token:
    """An access token.

    Attributes:
        renew_at: seconds since 1970; None if the source does not say when the token expires.
        refresh: the refresh token.
    """

    access: str
    renew_at: float | None
    refresh: str | None = None

    def __repr__(self) -> str:
        return f"Token(renew_at={self.renew_at})"


class Vault(Protocol):
    """Keeps one source's token, encrypted, for all processes."""

    def token(self) -> Token | None:
        """The stored token, valid or not; None if there is none."""

    def keep(self, token: Token) -> None:
        """Store a token in place of the one before."""

    def alone(self, stop: threading.Event) -> AbstractContextManager[None]:
        """A context that one process and thread enters at a time.

        Raises:
            RunCancelled: the run was cancelled.
        """


class MemoryVault(Vault):
    """A vault within this process."""

    def __init__(self) -> None:
        self._token: Token | None = None
        self._lock = threading.Lock()

    @override
    def token(self) -> Token | None:
        return self._token

    @override
    def keep(self, token: Token) -> None:
        self._token = token

    @override
    def alone(self, stop: threading.Event) -> AbstractContextManager[Any]:
        return self._lock


@dataclass(frozen=True)
class Client:
    """The OAuth client, with its template values filled in."""

    grant: str
    token_url: str
    client_id: str
    client_secret: str
    client_in: str
    scope: str
    refresh_token: str
    authorize_url: str
    extra: Mapping[str, str]

    def __repr__(self) -> str:
        return f"Client({self.grant}, {self.client_id})"

    @property
    def fingerprint(self) -> str:
        """Changes with anything that the token was issued for, so that a new secret leads to a new token."""
        facts = [self.grant, self.token_url, self.client_id, self.client_secret, self.scope, self.refresh_token]
        return hashlib.sha256(orjson.dumps([*facts, sorted(self.extra.items())])).hexdigest()


def client_of(rule: OAuth2Auth, values: Mapping[str, Any]) -> Client:
    """The client of an auth rule, with the settings filled in."""

    def filled(text: str | None) -> str:
        return (template.fill(text, values) if text is not None else None) or ""

    return Client(
        rule.grant,
        filled(rule.token_url),
        filled(rule.client_id),
        filled(rule.client_secret),
        rule.client_in,
        filled(rule.scope),
        filled(rule.refresh_token),
        filled(rule.authorize_url),
        {name: filled(text) for name, text in rule.extra.items()},
    )


def token_request(client: Client, fields: Mapping[str, str]) -> Request:
    """A request to the token endpoint (RFC 6749, 4.4.2 and 6), with client authentication as declared (2.3.1)."""
    form = {k: v for k, v in {"scope": client.scope, **client.extra, **fields}.items() if v}
    headers = {"accept": "application/json", "content-type": "application/x-www-form-urlencoded"}
    if client.client_in == "header" and client.client_secret:
        pair = f"{quote(client.client_id, safe='')}:{quote(client.client_secret, safe='')}"
        headers["authorization"] = "Basic " + base64.b64encode(pair.encode()).decode()
    else:
        form["client_id"] = client.client_id
        if client.client_secret:
            form["client_secret"] = client.client_secret
    return Request(client.token_url, "POST", headers, urlencode(form).encode())


def token_in(answer: Answer, now: float, before: str | None) -> Token:
    """The token in an answer (RFC 6749, 5.1).

    Args:
        before: the refresh token that was used, which stays valid if no new one is issued.

    Raises:
        SignInNeeded: the refresh token is no longer valid (5.2, invalid_grant).
        SignInFailed: no token was issued for another reason.
    """
    try:
        said = orjson.loads(answer.body)
    except orjson.JSONDecodeError:
        said = None
    if not isinstance(said, dict):
        said = {}
    if answer.status != 200 or not isinstance(said.get("access_token"), str):
        why = str(said.get("error_description") or said.get("error") or "there is no token in it")
        found = f"it answered {answer.status}: {why[:300]}"
        if said.get("error") == "invalid_grant" and before is not None:
            raise SignInNeeded(_DOING, answer.url, found=found, fix="sign in again, or set a new refresh token")
        raise SignInFailed(_DOING, answer.url, found=found, fix="check the client's id and secret, `scope` and `token_url`")
    life = said.get("expires_in")
    renew_at = None
    if isinstance(life, int | float | str) and str(life).replace(".", "", 1).isdigit():
        renew_at = now + float(life) - min(_RENEW_BEFORE_SECONDS, float(life) * _RENEW_BEFORE_PART)
    refresh = said.get("refresh_token")
    return Token(said["access_token"], renew_at, refresh if isinstance(refresh, str) else before)


class OAuthSignIn(SignIn):
    """See authentication.SignIn. `_lock` guards the token held here; the vault coordinates with other processes."""

    def __init__(
        self,
        client: Client,
        vault: Vault,
        ask: Callable[[Request], Answer],
        stop: threading.Event,
        mask: Mask,
        others: Credentials,
    ) -> None:
        """Prepare; nothing is requested yet.

        Args:
            ask: sends a request without credentials, and returns any answer that is not a failure of the source.
            others: what every request carries besides the token.
        """
        self._client = client
        self._vault = vault
        self._ask = ask
        self._stop = stop
        self._mask = mask
        self._others = others
        self._lock = threading.Lock()
        self._token: Token | None = None

    @override
    def shown(self, request: Request) -> Credentials:
        with self._lock:
            if self._token is None or _ends(self._token):
                self._token = self._fetch(self._token)
            return self._credentials(self._token)

    @override
    def refused(self, shown: Credentials) -> bool:
        with self._lock:
            if self._token is None or self._credentials(self._token) != shown:
                return True  # another thread has renewed it meanwhile
            self._token = self._fetch(self._token)
            return True

    def _credentials(self, token: Token) -> Credentials:
        headers = {**self._others.headers, "authorization": f"Bearer {token.access}"}
        return Credentials(headers, self._others.query)

    def _fetch(self, old: Token | None) -> Token:
        with self._vault.alone(self._stop):
            kept = self._vault.token()
            if kept is not None and (old is None or kept.access != old.access) and not _ends(kept):
                self._hide(kept)
                return kept
            refresh = (kept.refresh if kept else None) or self._client.refresh_token or None
            token = fetch_token(self._client, refresh, self._ask)
            self._hide(token)
            self._vault.keep(token)
            return token

    def _hide(self, token: Token) -> None:
        self._mask.add(token.access, token.refresh or "")


def fetch_token(client: Client, refresh: str | None, ask: Callable[[Request], Answer]) -> Token:
    """Request a token.

    Raises:
        SourceError: none was issued.
    """
    if client.grant == "client_credentials":
        fields, before = {"grant_type": "client_credentials"}, None
    elif refresh is None:
        raise SignInNeeded(
            _DOING,
            client.token_url,
            found="nobody has signed in yet",
            fix="open the source in the console, and sign in there",
        )
    else:
        fields, before = {"grant_type": "refresh_token", "refresh_token": refresh}, refresh
    return token_in(ask(token_request(client, fields)), time.time(), before)


def _ends(token: Token) -> bool:
    return token.renew_at is not None and time.time() >= token.renew_at


# The authorisation code, which a person fetches


@dataclass(frozen=True)
class PendingSignIn:
    """A person on the way to the source and back.

    Attributes:
        url: where to send them.
        state: a secret of ours that proves that it is they who come back (RFC 6749, 10.12).
        verifier: a secret of ours (RFC 7636, 4.1).
    """

    url: str
    state: str
    verifier: str

    def __repr__(self) -> str:
        return "Errand()"


def begin_sign_in(client: Client, back: str) -> PendingSignIn:
    """Begin a sign-in.

    Args:
        back: our own address, to which the source sends the person back.
    """
    state, verifier = secrets.token_urlsafe(24), secrets.token_urlsafe(48)
    challenge = base64.urlsafe_b64encode(hashlib.sha256(verifier.encode()).digest()).decode().rstrip("=")
    asked = {
        "response_type": "code",
        "client_id": client.client_id,
        "redirect_uri": back,
        "scope": client.scope,
        "state": state,
        "code_challenge": challenge,
        "code_challenge_method": "S256",
    }
    query = urlencode({k: v for k, v in asked.items() if v})
    return PendingSignIn(client.authorize_url + ("&" if "?" in client.authorize_url else "?") + query, state, verifier)


def finish_sign_in(client: Client, code: str, verifier: str, back: str, ask: Callable[[Request], Answer]) -> Token:
    """Exchange a code for a token (RFC 6749, 4.1.3).

    Raises:
        SourceError: no token was issued.
    """
    fields = {"grant_type": "authorization_code", "code": code, "redirect_uri": back, "code_verifier": verifier}
    return token_in(ask(token_request(client, fields)), time.time(), None)
