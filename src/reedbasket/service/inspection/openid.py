"""Requests to an OpenID provider: its own metadata, and the token of a sign-in. They need a secret, so they run in an inspecting
process.
"""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Any
from urllib.parse import quote_plus, urlencode, urlsplit

import jwt
import urllib3

from ...core.errors import ReedError, SecretMissing
from ...store import Store, secrets

CLIENT_SECRET = "openid_client_secret"
_TIMEOUT_SECONDS = 10.0
_LARGEST_BYTES = 1024 * 1024
# Signatures by a key pair alone: what is signed with a shared secret, or not at all, is nobody's word (RFC 8725, 3.1).
_SIGNED = ("RS256", "RS384", "RS512", "PS256", "PS384", "PS512", "ES256", "ES384", "ES512", "EdDSA")
# Two clocks may differ by so much.
_LEEWAY_SECONDS = 60
_HERE = ("127.0.0.1", "localhost", "::1")


class OpenIdError(ReedError):
    """The provider does not answer as it should."""

    code = "access.openid_failed"


@dataclass(frozen=True)
class Metadata:
    """What is needed of OpenID Connect Discovery 1.0.

    Attributes:
        says_issuer: answers carry `iss` (RFC 9207).
    """

    issuer: str
    authorization: str
    token: str
    keys: str
    basic: bool
    says_issuer: bool


def metadata_of(_: Store, issuer: str) -> Metadata:
    """The provider's metadata.

    Raises:
        OpenIdError: it does not answer as it should.
    """
    told = _json("GET", issuer.rstrip("/") + "/.well-known/openid-configuration", "reading the provider's metadata")
    if told.get("issuer") != issuer:
        raise _failed("reading the provider's metadata", f"its issuer is {told.get('issuer')!r}, not {issuer!r}")
    ways = told.get("token_endpoint_auth_methods_supported") or ["client_secret_basic"]
    return Metadata(
        issuer,
        _address(told, "authorization_endpoint"),
        _address(told, "token_endpoint"),
        _address(told, "jwks_uri"),
        "client_secret_basic" in ways,
        told.get("authorization_response_iss_parameter_supported") is True,
    )


def claims_of(store: Store, issuer: str, client: str, code: str, verifier: str, nonce: str, back: str) -> dict[str, Any]:
    """The claims of a valid ID token for whoever signed in (OpenID Connect Core 1.0, 3.1.3.7).

    Raises:
        OpenIdError: the code is refused, or the token is not valid for us.
    """
    found, doing = metadata_of(store, issuer), "exchanging the sign-in's code"
    sent = {
        "grant_type": "authorization_code", "code": code, "redirect_uri": back, "code_verifier": verifier, "client_id": client
    }  # fmt: skip
    headers = {"Content-Type": "application/x-www-form-urlencoded"}
    secret = _secret(store)
    if secret and found.basic:
        pair = f"{_form(client)}:{_form(secret)}"
        headers.update(urllib3.make_headers(basic_auth=pair))
    elif secret:
        sent["client_secret"] = secret
    answer = _json("POST", found.token, doing, urlencode(sent).encode(), headers)
    token = answer.get("id_token")
    if not isinstance(token, str):
        raise _failed(doing, "the answer has no id_token; the scope has to include openid")
    return _checked(token, found, client, nonce)


def _checked(token: str, found: Metadata, client: str, nonce: str) -> dict[str, Any]:
    doing = "checking the provider's token"
    try:
        head = jwt.get_unverified_header(token)
        keys = jwt.PyJWKSet.from_dict(_json("GET", found.keys, "reading the provider's keys")).keys
        fitting = [key for key in keys if key.key_id == head.get("kid")] or (
            keys if "kid" not in head and len(keys) == 1 else []
        )
        if not fitting or head.get("alg") not in _SIGNED:
            raise _failed(doing, f"it is signed with {head.get('alg')!r} and a key that the provider does not publish")
        claims: dict[str, Any] = jwt.decode(
            token,
            fitting[0].key,
            algorithms=[head["alg"]],
            audience=client,
            issuer=found.issuer,
            leeway=_LEEWAY_SECONDS,
            options={"require": ["iss", "sub", "aud", "exp", "iat"]},
        )
    except jwt.PyJWTError as error:
        raise _failed(doing, f"{type(error).__name__}: {error}") from None
    if claims.get("nonce") != nonce:
        raise _failed(doing, "it belongs to another sign-in (nonce)")
    others = isinstance(claims["aud"], list) and len(claims["aud"]) > 1
    if (others or "azp" in claims) and claims.get("azp") != client:
        raise _failed(doing, "it was issued to another client (azp)")
    return claims


def _secret(store: Store) -> str:
    try:
        return secrets.reveal(store, CLIENT_SECRET)
    except SecretMissing:
        return ""  # a public client has none; PKCE stands for it


def _form(text: str) -> str:
    """As RFC 6749, 2.3.1, has it in a Basic header."""
    return quote_plus(text)


def _address(told: dict[str, Any], name: str) -> str:
    address = told.get(name)
    if not isinstance(address, str) or not safe(address):
        raise _failed("reading the provider's metadata", f"its {name} is not an https address")
    return address


def safe(address: str) -> bool:
    """Whether nobody on the way can change an answer: https, or this machine."""
    parts = urlsplit(address)
    return bool(parts.hostname) and (parts.scheme == "https" or (parts.scheme == "http" and parts.hostname in _HERE))


def _json(
    method: str, address: str, doing: str, body: bytes | None = None, headers: dict[str, str] | None = None
) -> dict[str, Any]:
    try:
        with urllib3.PoolManager() as pool:
            answer = pool.request(
                method, address, body=body, headers={**(headers or {}), "Accept": "application/json"},
                timeout=_TIMEOUT_SECONDS, retries=False, redirect=False, preload_content=False,
            )  # fmt: skip
            data = answer.read(_LARGEST_BYTES + 1)
            answer.release_conn()
    except (urllib3.exceptions.HTTPError, OSError) as error:
        raise _failed(doing, f"{urlsplit(address).hostname}: {type(error).__name__}") from None
    try:
        told = json.loads(data) if len(data) <= _LARGEST_BYTES else None
    except ValueError:
        told = None
    if answer.status >= 400 or not isinstance(told, dict):
        why = told.get("error") if isinstance(told, dict) else None
        raise _failed(
            doing, f"{urlsplit(address).hostname} answered {answer.status}" + (f": {str(why)[:100]!r}" if why else "")
        )
    return told


def _failed(doing: str, found: str) -> OpenIdError:
    return OpenIdError(
        doing,
        found=found,
        fix="try again; if it persists, tell whoever runs the service, or check --openid-issuer and --openid-client",
    )
