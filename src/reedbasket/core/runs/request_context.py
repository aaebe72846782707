"""How one run sends requests: senders that share its pace, its credentials and its end."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any

from ..allowed_paths import Places
from ..errors import SourceError
from ..masking import Mask
from ..sources.http import Sender
from ..sources.http.answers import Answer
from ..sources.http.authentication import FixedCredentials, SignIn
from ..sources.http.credentials import Credentials, credentials
from ..sources.http.oauth import Client, MemoryVault, OAuthSignIn, Vault, client_of
from ..sources.http.recording import Recording
from ..sources.http.request import Request
from ..sources.http.sender import SHOWN_BYTES
from ..sources.http.signers import SignedRequests, load_signer
from ..sources.pace import Wait
from ..sources.pacer import LocalPacer, Pacer
from ..sources.requests_seen import Exchange, RequestSeen
from ..spec import template
from ..spec.auth import SignerAuth, oauth_of
from ..spec.http import Pace, Retry
from .planning.order import ResolvedSource

# Any answer of a token endpoint that is none of its failures is read: it says why it refused.
_TOKEN_ANSWERS = frozenset({200, 400, 401, 403})


@dataclass(frozen=True)
class RunContext:
    """What a run needs from outside.

    Attributes:
        reveal: gives a secret by its name.
        places: the folders that files may lie in.
        vault: keeps an OAuth client's token, by the client's fingerprint; only within this process unless another is given.
        stop: set when the run is cancelled.
        wind_up: set when the run has to commit what it can and end soon; where it can commit only at its end, it goes on.
        tape: records or replays answers.
    """

    reveal: Callable[[str], str]
    places: Places
    pacer: Pacer
    stop: threading.Event
    vault: Callable[[str], Vault] = lambda _: MemoryVault()
    wind_up: threading.Event = field(default_factory=threading.Event)
    tape: Recording | None = None


class RequestContext:
    """The request context of one run, for all its tables.

    Attributes:
        values: what templates may name, secrets included; masked wherever they are shown.
    """

    def __init__(self, order: ResolvedSource, context: RunContext) -> None:
        """Prepare to send requests.

        Raises:
            SecretMissing: a secret is not set.
            SourceError: the source cannot be used as it is defined.
        """
        self._order = order
        self._context = context
        revealed = {setting: context.reveal(name) for setting, name in order.secrets.items()}
        self.mask: Mask = _mask_for(order, revealed)
        if context.tape is not None:
            context.tape.mask = self.mask
        self.values: dict[str, Any] = order.values(revealed)
        self.base_url = template.fill(order.base_url, self.values) or ""
        self._seen: Callable[[RequestSeen], None] = lambda _: None
        self._sign_in: SignIn | None = None

    def sender(
        self,
        seen: Callable[[RequestSeen], None],
        told: Callable[[Wait], None] = lambda _: None,
        retry: Retry | None = None,
        wire: Callable[[Exchange], None] | None = None,
        wire_bytes: int = SHOWN_BYTES,
    ) -> Sender:
        """A sender of requests. Whoever asks for it closes it.

        Raises:
            SourceError: the request signer does not exist.
        """
        self._seen = seen
        if self._sign_in is None:
            self._sign_in = self._make_sign_in()
        order = self._order
        return Sender(
            timeouts=order.timeouts,
            retry=retry or order.retry,
            pacer=self._context.pacer,
            stop=self._context.stop,
            mask=self.mask,
            seen=seen,
            sign_in=self._sign_in,
            told=told,
            concurrency=order.rate_limit.concurrency,
            wire=wire,
            wire_bytes=wire_bytes,
            bodies=order.bodies,
            tape=self._context.tape,
        )

    def signs_in(self) -> None:
        """Authenticate once, so that there is a token.

        Raises:
            SourceError: that failed.
        """
        assert self._sign_in is not None
        self._sign_in.shown(Request(self.base_url))

    @property
    def client(self) -> Client | None:
        """The OAuth client, if the connector uses OAuth."""
        oauth = oauth_of(self._order.auth)
        return client_of(oauth, self.values) if oauth is not None else None

    def ask_for_token(self, request: Request) -> Answer:
        """Send a token request: without credentials of its own, and outside the source's rate limit, since a token endpoint is another
        server.

        Raises:
            SourceError: it failed.
        """
        sender = Sender(
            timeouts=self._order.timeouts,
            retry=self._order.retry,
            pacer=LocalPacer(Pace(concurrency=1)),
            stop=self._context.stop,
            mask=self.mask,
            seen=lambda seen: self._seen(seen),
            concurrency=1,
            tape=self._context.tape,
        )
        try:
            return sender.send(request, "fetching an access token", _TOKEN_ANSWERS)
        finally:
            sender.close()

    def _make_sign_in(self) -> SignIn:
        others, auth = _credentials_of(self._order, self.values), self._order.auth
        if isinstance(auth, SignerAuth):
            settings = {n.removeprefix("settings."): v for n, v in self.values.items() if n.startswith("settings.")}
            try:
                sign = load_signer(auth.name, self._context.places.signers)
            except SourceError as error:
                self.mask.error(error)
                raise
            return SignedRequests(auth.name, sign, settings, others)
        client = self.client
        if client is None:
            return FixedCredentials(others)
        vault = self._context.vault(client.fingerprint)
        return OAuthSignIn(client, vault, self.ask_for_token, self._context.stop, self.mask, others)


def _credentials_of(order: ResolvedSource, values: dict[str, Any]) -> Credentials:
    """What every request carries: the connector's headers and the credentials, except for tokens and signatures."""
    shown = credentials(order.auth, values)
    headers = {name: template.fill(text, values) or "" for name, text in order.headers.items()}
    return replace(shown, headers={**headers, **shown.headers})


def _mask_for(order: ResolvedSource, revealed: dict[str, str]) -> Mask:
    """What masks the secrets of a source, in every form they are sent in."""
    return Mask([*revealed.values(), *credentials(order.auth, order.values(revealed)).hidden])
