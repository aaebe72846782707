"""Signing in by OpenID Connect: what a claim gives, and what somebody who means ill tries with states, codes and tokens."""

from __future__ import annotations

import base64
import hmac
import json
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import jwt
import pytest
import urllib3
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import rsa

from tests.conftest import RunningService
from tests.support.openid import CLIENT, PASSWORD, Claims, Provider, signed

ROLES = "admins=admin, data=editor, guests=viewer"


class Browser:
    """Cookies and redirects, as a browser has them."""

    def __init__(self, service: RunningService) -> None:
        self.service = service
        self.cookies: dict[str, str] = {}
        self.flags: dict[str, str] = {}

    def get(self, address: str) -> Any:
        kept = "; ".join(f"{name}={value}" for name, value in self.cookies.items())
        answer = urllib3.request("GET", address, headers={"Cookie": kept}, redirect=False, retries=False, timeout=30)
        for said in answer.headers.getlist("set-cookie"):
            pair, _, flags = said.partition(";")
            name, _, value = pair.partition("=")
            self.cookies[name], self.flags[name] = value, flags
        return answer

    def to_provider(self) -> str:
        """Where it is sent by the sign-in page's link, and then by the provider: back here."""
        there = self.get(f"{self.service.url}/sign-in/openid").headers["location"]
        return str(urllib3.request("GET", there, redirect=False).headers["location"])

    def sign_in(self) -> str:
        """Where it ends."""
        return str(self.get(self.to_provider()).headers["location"])

    def who(self) -> dict[str, Any] | None:
        answer = self.get(f"{self.service.url}/api/v1/session")
        return json.loads(answer.data) if answer.status == 200 else None


@pytest.fixture
def provider() -> Iterator[Provider]:
    made = Provider()
    yield made
    made.close()


@pytest.fixture
def basket(tmp_path: Path, provider: Provider) -> Iterator[RunningService]:
    options = ("--openid-issuer", provider.url, "--openid-client", CLIENT, "--openid-roles", ROLES)
    running = RunningService(tmp_path / "data", *options)
    running.client.secrets.set("openid_client_secret", PASSWORD)
    yield running
    running.stop()


def test_a_claim_becomes_a_role_at_each_sign_in(basket: RunningService, provider: Provider) -> None:
    browser = Browser(basket)
    assert json.loads(browser.get(f"{basket.url}/api/v1/sign-in-ways").data) == {"openid": "127.0.0.1"}
    assert (browser.sign_in(), provider.refused) == ("/", [])
    assert browser.who() == {"signed_in": True, "name": "wren", "role": "editor", "user": "wren"}
    assert "HttpOnly" in browser.flags["reed_session"] and "SameSite=Strict" in browser.flags["reed_session"]
    assert [(u["name"], u["role"], u["openid"], u["has_password"]) for u in basket.client.users.list()] == [
        ("wren", "editor", True, False)
    ]

    # The same person under another name, with more; and the session of before has it too.
    provider.person |= {"preferred_username": "wren.reed", "groups": ["guests", "admins"]}
    assert Browser(basket).sign_in() == "/"
    who = browser.who()
    assert who is not None and (who["name"], who["role"]) == ("wren", "admin")

    basket.client.users.change("wren", disabled=True)
    assert Browser(basket).sign_in() == "/sign-in?failed=access.disabled" and browser.who() is None
    basket.client.users.change("wren", disabled=False)
    assert browser.sign_in() == "/"
    provider.person["groups"] = ["others"]
    assert Browser(basket).sign_in() == "/sign-in?failed=access.no_role"
    assert browser.who() is None, "who has no role there any more has none here"

    # Somebody else of a name that is taken is not let in under it.
    basket.client.users.add("tern", "admin")
    provider.person = {"sub": "u-2", "preferred_username": "tern", "groups": ["guests"]}
    other = Browser(basket)
    assert other.sign_in() == "/sign-in?failed=user.exists" and other.who() is None
    told = [(a["who"], a["what"], a["status"], a["details"]) for a in basket.client.audit()]
    assert ("wren", "sign in", 200, "openid") in told
    assert any(what == "sign in" and status == 401 and "access.no_role" in details for _, what, status, details in told)
    basket.stop()
    for path in [*basket.folder.rglob("*"), basket.folder.with_suffix(".err")]:
        assert not path.is_file() or PASSWORD.encode() not in path.read_bytes()


def without_signature(claims: Claims, provider: Provider) -> str:
    return jwt.encode(claims, None, "none", {"kid": "k1"})


def by_another_key(claims: Claims, provider: Provider) -> str:
    return jwt.encode(claims, rsa.generate_private_key(65537, 2048), "RS256", {"kid": "k1"})


def by_the_public_key(claims: Claims, provider: Provider) -> str:
    """Signed as with a shared secret, by what everybody may read."""
    form = serialization.PublicFormat.SubjectPublicKeyInfo
    secret = provider.key.public_key().public_bytes(serialization.Encoding.PEM, form)
    head, body = (
        base64.urlsafe_b64encode(json.dumps(part).encode()).rstrip(b"=")
        for part in ({"alg": "HS256", "kid": "k1", "typ": "JWT"}, claims)
    )
    digest = hmac.digest(secret, head + b"." + body, "sha256")
    return b".".join([head, body, base64.urlsafe_b64encode(digest).rstrip(b"=")]).decode()


def said(**changed: Any) -> Callable[[Claims, Provider], str]:
    return lambda claims, provider: signed(
        {name: value for name, value in {**claims, **changed}.items() if value is not None}, provider
    )


SPOILED = {
    "no signature": without_signature,
    "another key": by_another_key,
    "the public key as a secret": by_the_public_key,
    "of another sign-in": said(nonce="another"),
    "without nonce": said(nonce=None),
    "for another client": said(aud="other"),
    "for several, and made for another": said(aud=[CLIENT, "other"], azp="other"),
    "of another issuer": said(iss="https://login.example"),
    "over": said(exp=1_700_000_000),
    "without end": said(exp=None),
    "without subject": said(sub=None),
    "no token at all": lambda claims, provider: "nothing",
}


def test_a_token_that_does_not_hold_lets_nobody_in(basket: RunningService, provider: Provider) -> None:
    browser = Browser(basket)
    assert browser.sign_in() == "/"  # right before, and its address is one that has signed in
    for name, spoil in SPOILED.items():
        provider.spoil = spoil
        tried = Browser(basket)
        assert (tried.sign_in(), name) == ("/sign-in?failed=access.openid_failed", name)
        assert "reed_session" not in tried.cookies, name
        provider.spoil = None
        assert Browser(basket).sign_in() == "/", name  # and the next is not held up by it


def test_a_sign_in_comes_back_once_to_the_browser_that_began_it(basket: RunningService, provider: Provider) -> None:
    browser, thief = Browser(basket), Browser(basket)
    back = browser.to_provider()
    # Somebody else's code, in a browser that began nothing, or something else; and a state that nobody began.
    assert thief.get(back).headers["location"].endswith("failed=access.openid_failed")
    browser = Browser(basket)
    back = browser.to_provider()
    thief.to_provider()
    assert thief.get(back).headers["location"].endswith("failed=access.openid_failed")
    assert browser.get(back).headers["location"] == "/"
    browser.cookies["reed_openid"] = dict(pair.split("=", 1) for pair in urlsplit(back).query.split("&"))["state"]
    assert browser.get(back).headers["location"].endswith("failed=access.openid_failed"), "once"
    forged = f"{basket.url}/sign-in/openid/back?state=x&code=y"
    browser.cookies["reed_openid"] = "x"
    assert browser.get(forged).headers["location"].endswith("failed=access.openid_failed")
    # An answer that says it is of another provider (a mix-up, RFC 9207).
    provider.says = "https://login.example"
    assert Browser(basket).sign_in().endswith("failed=access.openid_failed")
    provider.says = provider.url
    assert Browser(basket).sign_in() == "/"
    refused = Browser(basket)
    refused.to_provider()
    state = refused.cookies["reed_openid"]
    answer = refused.get(f"{basket.url}/sign-in/openid/back?state={state}&error=access_denied")
    assert answer.headers["location"].endswith("failed=access.openid_failed")


@pytest.mark.parametrize(
    ("options", "says"),
    [
        (("--openid-issuer", "http://login.example", "--openid-client", "x", "--openid-roles", "a=admin"), "--openid-issuer"),
        (("--openid-issuer", "https://login.example", "--openid-roles", "a=admin"), "--openid-client"),
        (("--openid-issuer", "https://login.example", "--openid-client", "x", "--openid-roles", "a=owner"), "--openid-roles"),
        (("--openid-issuer", "https://login.example", "--openid-client", "x"), "--openid-roles"),
    ],
)
def test_half_a_setting_is_refused_at_the_start(tmp_path: Path, options: tuple[str, ...], says: str) -> None:
    with pytest.raises(AssertionError, match=says):
        RunningService(tmp_path / "data", *options)


def test_forged_returns_are_held_up_and_fill_nothing(basket: RunningService, provider: Provider) -> None:
    forger = Browser(basket)
    ends = [forger.get(f"{basket.url}/sign-in/openid/back?state=x&code={n}").headers["location"] for n in range(40)]
    assert (
        ends[:5] == ["/sign-in?failed=access.openid_failed"] * 5 and ends.count("/sign-in?failed=access.too_many_attempts") > 25
    )
    assert len([line for line in basket.client.audit() if line["what"] == "sign in"]) == len(ends) - ends.count(
        "/sign-in?failed=access.too_many_attempts"
    )


def test_a_provider_that_is_away_holds_up_nobody_else(basket: RunningService, provider: Provider) -> None:
    """Whoever begins to sign in is nobody yet, and makes the service ask the provider."""
    held, asked = threading.Event(), []

    def silent() -> Any:
        asked.append(1)
        held.wait(30)
        return {}

    provider.description = silent  # type: ignore[method-assign]
    with ThreadPoolExecutor(40) as pool:
        began = [pool.submit(Browser(basket).get, f"{basket.url}/sign-in/openid") for _ in range(40)]
        while not asked:
            time.sleep(0.02)
        assert basket.client.health()["status"] == "ok" and basket.client.feeds.list() == []
        held.set()
        ends = {one.result().headers["location"] for one in began}
    assert ends <= {"/sign-in?failed=access.openid_failed", "/sign-in?failed=service.busy"} and len(asked) == 1
