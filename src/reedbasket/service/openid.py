"""Signing in by OpenID Connect: where the browser is sent, and what the answer means. Inspecting processes send the requests
(inspection.openid).

Authorization code with PKCE (RFC 7636), `state` bound to the browser by a cookie, `nonce` bound to the token, `iss` in the answer
checked (RFC 9207), as OAuth 2.0 Security Best Current Practice asks (RFC 9700).
"""

from __future__ import annotations

import base64
import hashlib
import logging
import re
import threading
import time
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import urlencode

from ..core.errors import ReedError
from ..store.access import ROLES, Role
from ..store.openid import Begun
from .call_limits import CallLimiter
from .inspection.openid import Metadata, OpenIdError, metadata_of
from .inspection_pool import InspectionPool
from .settings import Settings

log = logging.getLogger("reedbasket.access")
_METADATA_SECONDS, _AWAY_SECONDS = 600.0, 5.0
_AT_ONCE = 3
_NOT_IN_A_NAME = re.compile(r"[^a-z0-9._-]+")


@dataclass
class OpenId:
    """The provider of one running service. `_lock` guards what is known of the provider; whoever comes meanwhile waits for the same
    answer.

    Callers are not signed in yet, so only a few at once may wait for the provider; if it has just failed to answer, it is not asked
    again for a moment.
    """

    settings: Settings
    inspection: InspectionPool
    waiting: CallLimiter = field(default_factory=lambda: CallLimiter(_AT_ONCE, "sign-ins"))
    _metadata: Metadata | None = None
    _failed: ReedError | None = None
    _until: float = -1.0
    _lock: threading.Lock = field(default_factory=threading.Lock)

    @property
    def there(self) -> bool:
        """Whether people can sign in by a provider."""
        return bool(self.settings.openid_issuer)

    def metadata(self) -> Metadata:
        """The provider's metadata.

        Raises:
            ReedError: it does not answer as it should.
        """
        with self._lock:
            if time.monotonic() > self._until:
                try:
                    self._metadata, self._failed = self.inspection.ask(metadata_of, self.settings.openid_issuer), None
                    self._until = time.monotonic() + _METADATA_SECONDS
                except ReedError as error:
                    log.warning("the OpenID provider: %s", error)
                    self._metadata, self._failed = None, error
                    self._until = time.monotonic() + _AWAY_SECONDS
            if self._metadata is None:
                assert self._failed is not None
                raise self._failed
            return self._metadata

    def address(self, begun: Begun, back: str) -> str:
        """Where the browser goes.

        Args:
            back: our own address, to which the provider sends it back.
        """
        own = self.settings
        digest = hashlib.sha256(begun.verifier.encode()).digest()
        asked = {
            "response_type": "code",
            "client_id": own.openid_client,
            "redirect_uri": back,
            "scope": own.openid_scope,
            "state": begun.state,
            "nonce": begun.nonce,
            "code_challenge": base64.urlsafe_b64encode(digest).decode().rstrip("="),
            "code_challenge_method": "S256",
        }
        endpoint = self.metadata().authorization
        return endpoint + ("&" if "?" in endpoint else "?") + urlencode(asked)


def role_of(claims: dict[str, Any], claim: str, roles: dict[str, Role]) -> Role | None:
    """The highest role that a claim gives; its value is a text or a list of texts.

    Args:
        claim: a name; with dots for a claim inside others.
        roles: {value of the claim: role}; `*` is whoever signs in.
    """
    held: Any = claims.get(claim)
    if held is None and "." in claim:
        held = claims
        for step in claim.split("."):
            held = held.get(step) if isinstance(held, dict) else None
    said = [one for one in (held if isinstance(held, list) else [held]) if isinstance(one, str)]
    found = [roles[one] for one in [*said, "*"] if one in roles]
    return max(found, key=ROLES.index, default=None)


def name_of(claims: dict[str, Any], claim: str) -> str:
    """A user's name from the provider's name for them: lower case letters, digits, `._-`; for a mail address, what is before the @.

    Raises:
        OpenIdError: nothing is left of it.
    """
    said = claims.get(claim) or claims.get("email") or claims.get("sub")
    made = _NOT_IN_A_NAME.sub("-", str(said).lower().partition("@")[0]).strip("-._")[:63]
    if not made or not made[0].isalpha():
        raise OpenIdError(
            "signing in",
            found=f"the claim {claim} does not yield a valid name",
            fix="give another with --openid-name",
            code="access.openid_failed",
        )
    return made
