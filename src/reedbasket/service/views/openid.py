"""Where the browser goes to sign in by OpenID Connect, and where it comes back. These are pages, not API: the sign-in page shows what
fails.
"""

from __future__ import annotations

import hmac
import logging
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import timedelta
from urllib.parse import quote

from flask import Blueprint, Response, redirect, request

from ... import wire
from ...core.errors import ReedError
from ...store import access, openid
from ..auth import SESSION_COOKIE, TooManyAttempts
from ..inspection.openid import OpenIdError, claims_of
from ..openid import name_of, role_of
from ..problems import TooBusy
from .shared import operations, parts

STATE_COOKIE = "reed_openid"
# Rights are asked for anew this often: what was taken from somebody over there ends here then.
_SESSION = timedelta(hours=12)

blueprint = Blueprint("openid", __name__)
log = logging.getLogger("reedbasket.access")


@operations.add("GET", "/api/v1/sign-in-ways", "the ways to sign in to this service", role=None)
def sign_in_ways() -> wire.SignInWays:
    return {"openid": parts().settings.openid_host}


@blueprint.get("/sign-in/openid")
def leave() -> Response:
    own = parts()
    if not own.openid.there:
        return _shown(OpenIdError("signing in", found="no provider is configured", fix="sign in by name"))
    try:
        with _place():
            own.openid.metadata()  # before anything is kept of somebody who cannot be sent on
            begun = openid.begin(own.store)
            answer = redirect(own.openid.address(begun, _back()), 303)
    except ReedError as error:
        return _shown(error)
    answer.set_cookie(
        STATE_COOKIE, begun.state, max_age=openid.MINUTES * 60, httponly=True, samesite="Lax", secure=_secure(), path=_path()
    )
    return answer  # type: ignore[return-value]


@blueprint.get("/sign-in/openid/back")
def come_back() -> Response:
    try:
        with _place():
            session, name = _signed_in()
    except ReedError as error:
        return _failed(error)
    answer = redirect(f"{request.script_root}/", 303)
    answer.set_cookie(
        SESSION_COOKIE, session, max_age=int(_SESSION.total_seconds()), httponly=True, samesite="Strict", secure=_secure()
    )
    answer.delete_cookie(STATE_COOKIE, path=_path())
    access.note(parts().store, name, "sign in", request.remote_addr or "", 200, "openid")
    return answer  # type: ignore[return-value]


def _signed_in() -> tuple[str, str]:
    """(session, name). Raises ReedError."""
    own, address = parts(), request.remote_addr or ""
    own.tries.begin("", address)
    state, kept = request.args.get("state", ""), request.cookies.get(STATE_COOKIE, "")
    begun = openid.take(own.store, state) if kept and hmac.compare_digest(state.encode(), kept.encode()) else None
    if begun is None:
        raise _refused("it was not started in this browser, or more than ten minutes ago")
    issuer = own.settings.openid_issuer
    said = request.args.get("iss")
    if said != issuer and (said is not None or own.openid.metadata().says_issuer):
        raise _refused("the answer comes from another provider (iss)")
    if request.args.get("error") or not request.args.get("code"):
        raise _refused(f"the provider answered {request.args.get('error', 'without a code')[:100]!r}")
    claims = own.inspection.ask(
        claims_of, issuer, own.settings.openid_client, request.args["code"], begun.verifier, begun.nonce, _back()
    )
    subject = f"{issuer} {claims['sub']}"
    role = role_of(claims, own.settings.openid_claim, own.settings.roles_of_openid)
    if role is None:
        openid.without_role(own.store, subject)
        raise _refused(f"no value of the claim {own.settings.openid_claim} has a role here", "access.no_role")
    name = openid.signed_in(own.store, subject, name_of(claims, own.settings.openid_name), role)
    if name is None:
        raise _refused("the user is disabled here", "access.disabled")
    own.tries.succeeded(name, address)
    return access.begin_session(own.store, name, lasts=_SESSION), name


@contextmanager
def _place() -> Iterator[None]:
    with parts().openid.waiting.held("nobody") as found:
        if found:
            raise TooBusy("signing in", found=found, fix="try again in a moment", wait_seconds=1)
        yield


def _refused(found: str, code: str = "access.openid_failed") -> OpenIdError:
    return OpenIdError("signing in", found=found, fix="begin again, or ask an admin", code=code)


def _failed(error: ReedError) -> Response:
    # Whoever is held up writes nothing: nobody fills the log and the audit by asking again and again.
    if not isinstance(error, TooManyAttempts | TooBusy):
        log.warning("sign-in by OpenID Connect: %s", error)
        access.note(
            parts().store, "nobody", "sign in", request.remote_addr or "", 401, f"openid: {error.code}: {error.found}"[:300]
        )
    return _shown(error)


def _shown(error: ReedError) -> Response:
    answer = redirect(f"{request.script_root}/sign-in?failed={quote(error.code)}", 303)
    answer.delete_cookie(STATE_COOKIE, path=_path())
    return answer  # type: ignore[return-value]


def _back() -> str:
    return f"{parts().url}/sign-in/openid/back"


def _path() -> str:
    return f"{request.script_root}/sign-in"


def _secure() -> bool:
    return request.is_secure or parts().url.startswith("https://")
