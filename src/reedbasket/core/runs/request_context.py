"""How one run asks its source: senders that share its pace, its stop and who is asking."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from ..allowed_paths import Places
from ..errors import SourceError
from ..masking import Mask
from ..sources.http import Sender
from ..sources.http.answers import Answer
from ..sources.http.authentication import SignIn, Standing
from ..sources.http.oauth import Client, MemoryVault, OAuthSignIn, Vault, client_of
from ..sources.http.recording import Tape
from ..sources.http.request import Request
from ..sources.http.sender import SHOWN_BYTES
from ..sources.http.signers import SignedRequests, load_signer
from ..sources.pace import Wait
from ..sources.pacer import LocalPacer, Pacer
from ..sources.requests_seen import Exchange, RequestSeen
from ..spec import template
from ..spec.auth import SignerAuth, oauth_of
from ..spec.http import Pace, Retry
from .planning.order import ResolvedSource, credentials_of, mask_for

# Any answer of a token endpoint that is none of its failures is read: it says why it refused.
_TOKEN_ANSWERS = frozenset({200, 400, 401, 403})


@dataclass(frozen=True)
class RunContext:
    """What a run is given of the world. reveal: a secret by name. places: where files may lie. vault: keeps the token of a client, by
    its fingerprint; in this process alone where nobody gives another. stop: the run is cancelled. wind_up: it is to commit what it can
    as soon as it can, and end; where it can commit only at its end, it goes on. tape: of answers, recorded or replayed."""

    reveal: Callable[[str], str]
    places: Places
    pacer: Pacer
    stop: threading.Event
    vault: Callable[[str], Vault] = lambda _: MemoryVault()
    wind_up: threading.Event = field(default_factory=threading.Event)
    tape: Tape | None = None


class RequestContext:
    """One run's, for all its tables. values: what templates may name, secrets included, masked wherever they are told."""

    def __init__(self, order: ResolvedSource, context: RunContext) -> None:
        """Raises SecretMissing, SourceError."""
        self._order = order
        self._context = context
        revealed = {setting: context.reveal(name) for setting, name in order.secrets.items()}
        self.mask: Mask = mask_for(order, revealed)
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
        """To be closed by whoever asks for it. Raises SourceError where what signs requests is missing."""
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
        """Show who asks once, so that a token is there. Raises SourceError."""
        assert self._sign_in is not None
        self._sign_in.shown(Request(self.base_url))

    @property
    def client(self) -> Client | None:
        """Of OAuth, where the connector signs in by it."""
        oauth = oauth_of(self._order.auth)
        return client_of(oauth, self.values) if oauth is not None else None

    def ask_for_token(self, request: Request) -> Answer:
        """Without signing in, and beside the source's pace: a token endpoint is another one. Raises SourceError."""
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
        others, auth = credentials_of(self._order, self.values), self._order.auth
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
            return Standing(others)
        vault = self._context.vault(client.fingerprint)
        return OAuthSignIn(client, vault, self.ask_for_token, self._context.stop, self.mask, others)
