"""Passwords, tokens, links and sessions: guessed at once from several places, and after their makers have lost their rights."""

from __future__ import annotations

import json
from collections import Counter
from concurrent.futures import ThreadPoolExecutor

import pytest
import urllib3

from reedbasket.client import Client, ServiceProblem
from reedbasket.service.auth import AttemptLimiter, TooManyAttempts
from tests.conftest import RunningService

PASSWORD = "otters like quiet reeds"


def try_once(service: RunningService, name: str, password: str) -> int:
    body = json.dumps({"name": name, "password": password}).encode()
    headers = {"Content-Type": "application/json"}
    return urllib3.request(
        "POST", service.url + "/api/v1/session", body=body, headers=headers, retries=False, timeout=60
    ).status


def test_many_guesses_at_once_are_no_more_than_one_after_the_other(service: RunningService) -> None:
    service.client.users.add("wren", "admin", PASSWORD)
    with ThreadPoolExecutor(30) as pool:
        found = Counter(pool.map(lambda n: try_once(service, "wren", f"guess {n}"), range(30)))
    assert (found[401], found[429]) == (5, 25)


def test_a_name_is_held_up_from_everywhere_and_its_own_place_is_not() -> None:
    tries = AttemptLimiter()
    tries.begin("wren", "10.0.0.1")
    tries.succeeded("wren", "10.0.0.1")
    met = 0
    for place in range(100):  # each from a place of its own
        try:
            tries.begin("wren", f"10.1.0.{place}")
            met += 1
        except TooManyAttempts as held_up:
            assert held_up.wait_seconds is not None and held_up.wait_seconds <= 10
    assert met == 20
    tries.begin("wren", "10.0.0.1")
    tries.begin("tern", "10.2.0.1")
    # One network of IPv6 is one place, whichever of its addresses calls.
    for last in range(5):
        tries.begin(f"name {last}", f"2001:db8:1:2::{last}")
    with pytest.raises(TooManyAttempts):
        tries.begin("kite", "2001:db8:1:2:ffff::1")
    tries.begin("kite", "2001:db8:1:3::1")


def test_common_passwords_and_names_are_refused(service: RunningService) -> None:
    for password in ("password12345", "qwertyuiop123", "wren-wren-wren", "Wren12345678", "reedbasket1", "a" * 30, "short"):
        with pytest.raises(ServiceProblem) as refused:
            service.client.users.add("wren", "viewer", password)
        assert refused.value.code == "access.bad_password", password


def test_what_somebody_made_may_no_more_than_they_may(service: RunningService) -> None:
    def may(token: str) -> str:
        try:
            return str(Client(service.url, token).who_am_i()["role"])
        except ServiceProblem as problem:
            return problem.code

    def session_of(client: Client) -> str:
        code = client.sign_in_code()["code"]
        answer = urllib3.request("POST", service.url + "/api/v1/session", json={"code": code})
        return str(answer.headers["set-cookie"]).split(";")[0]

    def may_by(session: str) -> str:
        answer = urllib3.request("GET", service.url + "/api/v1/session", headers={"Cookie": session})
        told = json.loads(answer.data)
        return str(told["role"] if answer.status == 200 else told["code"])

    # Of a token: those that it made, and links.
    mother = Client(service.url, service.client.tokens.add("mother", "admin")["token"])
    child = mother.tokens.add("child", "editor")["token"]
    grandchild = Client(service.url, mother.tokens.add("second", "admin")["token"]).tokens.add("third", "admin")["token"]
    session = session_of(mother)
    assert (may(child), may(grandchild), may_by(session)) == ("editor", "admin", "admin")
    service.client.tokens.remove(next(t["id"] for t in service.client.tokens.list() if t["label"] == "mother"))
    assert {may(child), may(grandchild), may_by(session)} == {"access.not_signed_in"}

    # Of somebody who signs in by name: rights that fall, and a user that is disabled or removed.
    service.client.users.add("wren", "admin", PASSWORD)
    answer = urllib3.request("POST", service.url + "/api/v1/session", json={"name": "wren", "password": PASSWORD})
    cookie = str(answer.headers["set-cookie"]).split(";")[0]
    headers = {"Cookie": cookie, "X-Reed-Console": "1", "Origin": service.url}
    made = urllib3.request("POST", service.url + "/api/v1/tokens", json={"label": "hers", "role": "admin"}, headers=headers)
    hers = json.loads(made.data)["token"]
    theirs = Client(service.url, hers).tokens.add("of hers", "editor")["token"]
    assert (may(hers), may(theirs)) == ("admin", "editor")
    service.client.users.change("wren", role="viewer")
    assert (may(hers), may(theirs)) == ("viewer", "viewer")
    service.client.users.change("wren", disabled=True)
    assert {may(hers), may(theirs)} == {"access.not_signed_in"}
    service.client.users.change("wren", role="admin", disabled=False)
    assert may(theirs) == "editor"
    service.client.users.remove("wren")
    assert {may(hers), may(theirs)} == {"access.not_signed_in"}
    assert service.client.who_am_i()["role"] == "admin"


def test_streams_of_one_caller_are_not_all_of_them_and_end_with_its_rights(service: RunningService) -> None:
    def watch(token: str) -> urllib3.BaseHTTPResponse:
        headers = {"Authorization": f"Bearer {token}"}
        return urllib3.request("GET", service.url + "/api/v1/events", headers=headers, preload_content=False, timeout=60)

    made = service.client.tokens.add("wall", "viewer")
    with ThreadPoolExecutor(20) as pool:
        answers = list(pool.map(lambda _: watch(made["token"]), range(20)))
    open_ones = [answer for answer in answers if answer.status == 200]
    assert (len(open_ones), {answer.status for answer in answers}) == (9, {200, 503})
    mine = watch(service.token)
    assert mine.status == 200
    service.client.tokens.remove(next(t["id"] for t in service.client.tokens.list() if t["label"] == "wall"))
    # They end by themselves; read to their ends.
    for answer in open_ones:
        answer.read()
    mine.close()
