"""Who may do what: every route with every role, passwords, sessions, and what an intruder would try."""

from __future__ import annotations

import json
import re
import sqlite3
from pathlib import Path
from typing import Any

import pytest
import urllib3

from reedbasket.client import Client, ServiceProblem
from reedbasket.service.views import operations
from reedbasket.store import Store, access
from reedbasket.store.access import ROLES
from tests.conftest import RunningService
from tests.support.feeds import SECRET, basket_text
from tests.support.source import Changing, serving

PASSWORD = "otters like quiet reeds"


def ask(
    service: RunningService, method: str, path: str, body: Any = None, **headers: str
) -> tuple[int, dict[str, Any], urllib3.HTTPHeaderDict]:
    raw = body if isinstance(body, bytes) else json.dumps(body).encode() if body is not None else None
    sent = {"Content-Type": "application/json", **{k.replace("_", "-"): v for k, v in headers.items()}}
    answer = urllib3.request(method, service.url + path, body=raw, headers=sent, retries=False, redirect=False, timeout=30)
    return answer.status, (json.loads(answer.data) if answer.data[:1] == b"{" else {}), answer.headers


def sign_in(service: RunningService, name: str, password: str = PASSWORD) -> str:
    status, _, headers = ask(service, "POST", "/api/v1/session", {"name": name, "password": password})
    assert status == 200
    return str(headers["set-cookie"]).split(";")[0]


def test_every_route_asks_for_the_role_it_says(service: RunningService) -> None:
    tokens = {role: service.client.tokens.add(role, role)["token"] for role in ROLES}
    checked = 0
    for operation in operations.all:
        if operation.stream == "text/event-stream":
            continue
        path = re.sub(r"{(\w+)}", lambda m: "7" if m[1] in operation.int_names else "nobody", operation.path)  # noqa: B023
        if operation.role is None:
            assert ask(service, operation.method, path, {})[1].get("code") not in ("access.not_signed_in", "access.role")
            continue
        assert ask(service, operation.method, path, {})[0] == 401, path
        for role in ROLES:
            status, problem, _ = ask(service, operation.method, path, {}, Authorization=f"Bearer {tokens[role]}")
            may = ROLES.index(role) >= ROLES.index(operation.role)
            refused = status == 403 and problem["code"] == "access.role"
            assert refused != may, (operation.method, path, role, status)
            checked += 1
    assert checked > 200
    # What is said of each in the document is what was tried.
    document = service.client.openapi()["paths"]
    assert document["/api/v1/users"]["get"]["x-role"] == "admin"
    # A route that is no declared operation is not open either.
    assert ask(service, "GET", "/api/v1/sign-in-return")[0] in (302, 400, 401, 404)


def test_people_sign_in_by_name_and_everything_they_change_is_noted(service: RunningService) -> None:
    service.client.users.add("wren", "operator", PASSWORD)
    session = sign_in(service, "wren")
    who = ask(service, "GET", "/api/v1/session", Cookie=session)[1]
    assert (who["name"], who["role"], who["user"]) == ("wren", "operator", "wren")
    assert ask(service, "POST", "/api/v1/feeds/x/pause", Cookie=session, X_Reed_Console="1")[0] == 404
    assert (
        ask(service, "PUT", "/api/v1/secrets/x", {"value": "v"}, Cookie=session, X_Reed_Console="1")[1]["code"] == "access.role"
    )
    body = {"old": PASSWORD, "new": "other otters, other reeds"}
    assert ask(service, "PUT", "/api/v1/session/password", body, Cookie=session, X_Reed_Console="1")[0] == 204
    assert ask(service, "GET", "/api/v1/session", Cookie=session)[0] == 401, "another password ends every session"
    session = sign_in(service, "wren", "other otters, other reeds")
    service.client.users.change("wren", role="viewer")
    assert ask(service, "GET", "/api/v1/session", Cookie=session)[1]["role"] == "viewer"
    service.client.users.change("wren", disabled=True)
    assert ask(service, "GET", "/api/v1/session", Cookie=session)[0] == 401
    assert ask(service, "POST", "/api/v1/session", {"name": "wren", "password": "other otters, other reeds"})[0] == 401
    told = [(a["who"], a["what"], a["on"], a["status"], a["details"]) for a in service.client.audit()]
    assert ("local command line", "change user", "wren", 204, "disabled: True") in told
    assert ("wren", "set secret", "x", 403, "") in told
    assert ("wren", "sign in", "127.0.0.1", 401, "") in told
    for wrong, code in ((("wren", "viewer", PASSWORD), "user.exists"), (("kite", "viewer", "short"), "access.bad_password")):
        with pytest.raises(ServiceProblem) as refused:
            service.client.users.add(*wrong)  # type: ignore[arg-type]
        assert refused.value.code == code
    service.stop()
    for path in service.folder.rglob("*"):
        assert not path.is_file() or PASSWORD.encode() not in path.read_bytes()


def test_a_token_of_a_program_ends_and_can_be_ended(service: RunningService) -> None:
    made = service.client.tokens.add("nightly", "operator", days=1)["token"]
    program = Client(service.url, made)
    assert program.who_am_i()["role"] == "operator"
    listed = next(t for t in service.client.tokens.list() if t["label"] == "nightly")
    assert (listed["role"], listed["made_by"], listed["used_at"] is not None) == ("operator", "local command line", True)
    assert made not in str(service.client.tokens.list())
    db = sqlite3.connect(service.folder / "service.db")
    db.execute("update token set ends_at = '2026-01-01T00:00:00.000Z' where label = 'nightly'")
    db.commit()
    with pytest.raises(ServiceProblem, match="has expired"):
        program.feeds.list()
    db.execute("update token set ends_at = null where label = 'nightly'")
    db.commit()
    db.close()
    program.feeds.list()
    service.client.tokens.remove(listed["id"])
    with pytest.raises(ServiceProblem):
        program.feeds.list()


def test_a_wrong_password_is_the_same_work_whoever_is_named(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    store, work, digest = Store(tmp_path), list[int](), access._digest
    store.upgrade()
    access.add_user(store, "wren", "viewer", PASSWORD)
    monkeypatch.setattr(access, "_digest", lambda password, salt: work.append(len(salt)) or digest(password, salt))
    assert not access.check_password(store, "wren", "guess") and not access.check_password(store, "nobody", "guess")
    assert len(work) == 2 and len(set(work)) == 1


def test_guessing_passwords_gets_slow_and_tells_nothing(service: RunningService) -> None:
    service.client.users.add("wren", "admin", PASSWORD)
    tried = [
        ask(service, "POST", "/api/v1/session", {"name": name, "password": "guess"})[1] for name in ("wren", "nobody", "wren")
    ]
    assert tried[0]["code"] == "access.wrong_password" and tried[0] == tried[1] == tried[2]
    for _ in range(12):  # a slow machine may have sat out the first pauses, each twice as long as the one before
        status, problem, headers = ask(service, "POST", "/api/v1/session", {"name": "wren", "password": "guess"})
        if status != 401:
            break
    assert (status, problem["code"]) == (429, "access.too_many_attempts")
    assert int(headers["retry-after"]) >= 1
    assert ask(service, "POST", "/api/v1/session", {"name": "wren", "password": PASSWORD})[0] == 429


def test_other_sites_and_odd_requests_come_to_nothing(service: RunningService) -> None:
    service.client.users.add("wren", "admin", PASSWORD)
    session = sign_in(service, "wren")
    with serving(Changing([])) as source:
        service.client.secrets.set("test_token", SECRET)
        service.client.definitions.apply({"a.yaml": basket_text(source.url)})
    path = "/api/v1/feeds/test/pause"
    tries = [
        {"Cookie": session},
        {"Cookie": session, "X_Reed_Console": "1", "Origin": "https://evil.example"},
        {"Cookie": session, "Content_Type": "application/x-www-form-urlencoded"},
        {"Cookie": session, "X_Reed_Console": "1", "Host": "evil.example"},
    ]
    for headers in tries:
        assert ask(service, "POST", path, **headers)[0] == 403, headers
    assert service.client.feeds.get("test")["schedule"]["paused"] is None
    assert ask(service, "POST", path, Cookie=session, X_Reed_Console="1", Origin=service.url)[0] == 200

    token = f"Bearer {service.token}"
    for traversal in ("/assets/../../../../etc/passwd", "/assets/%2e%2e/%2e%2e/key", "/api/v1/definitions/feed/..%2f..%2fkey"):
        status, _, _ = ask(service, "GET", traversal, Authorization=token)
        assert status == 404, traversal
    names = ["x'; drop table run; --", 'x" or 1=1 --', "%27%20or%201=1", "a/../b"]
    for name in names:
        quoted = "".join(f"%{byte:02x}" for byte in name.encode())
        for address in (
            f"/api/v1/feeds/{quoted}",
            f"/api/v1/runs?feed={quoted}",
            f"/api/v1/warehouses/marsh/tables/{quoted}/rows",
        ):
            status, problem, _ = ask(service, "GET", address, Authorization=token)
            assert status in (200, 404), (address, status, problem)
    assert service.client.runs.list() == []

    bomb = "a: &a [x,x,x,x,x,x,x,x,x]\n" + "".join(
        f"{chr(98 + n)}: &{chr(98 + n)} [{','.join([f'*{chr(97 + n)}'] * 9)}]\n" for n in range(9)
    )
    status, problem, _ = ask(service, "POST", "/api/v1/basket", {"files": {"bomb.yaml": bomb}}, Authorization=token)
    assert (status, problem["code"]) == (422, "definition.mistakes")
    deep = "feed: " + "[" * 5000
    status, problem, _ = ask(service, "POST", "/api/v1/basket", {"files": {"deep.yaml": deep}}, Authorization=token)
    assert (status, problem["code"]) == (422, "definition.mistakes")
    huge = b'{"files": {"a": "' + b"x" * (9 * 1024 * 1024) + b'"}}'
    status, problem, _ = ask(service, "POST", "/api/v1/basket", huge, Authorization=token)
    assert (status, problem["code"]) == (413, "request.too_large")
    assert ask(service, "POST", "/api/v1/runs", b"[" * 100_000, Authorization=token)[0] == 400
    assert service.client.health()["status"] == "ok"


def test_a_planted_secret_is_found_nowhere(service: RunningService, tmp_path: Path) -> None:
    """In answers, exports, notifications, metrics, logs and files, of a feed that fails with the secret in the source's own words."""
    from tests.support.source import Answer

    def tells_it_back(request: Any) -> Answer:
        return Answer({"error": f"no such caller: {request.headers.get('authorization')}"}, 403)

    with serving(tells_it_back) as source:
        service.client.secrets.set("test_token", SECRET)
        hook = "{url: 'http://127.0.0.1:9/hook', secret: {secret: test_token}}"
        feed = f"notify: {{events: [failed], email: [data@sedge.example], webhook: [{hook}]}}"
        service.client.definitions.apply({"a.yaml": basket_text(source.url, feed=feed)})
        run = service.client.feeds.run("test", wait_seconds=30)
        assert run["outcome"] == "failed"
        service.client.secrets.rotate()
        run = service.client.feeds.run("test", wait_seconds=30)
        token = {"Authorization": f"Bearer {service.token}"}
        seen: list[Any] = [
            run.facts,
            service.client.definitions.export(),
            service.client.notifications.list(),
            service.client.audit(),
            service.client.secrets.list(),
        ]
        seen += [service.client.runs.log(run["id"]), service.client.runs.requests(run["id"]), service.client.definitions.list()]
        seen += [
            service.client.definitions.versions("feed", "test"),
            service.client.sources.get("test"),
            service.client.openapi(),
        ]
        answer = urllib3.request("GET", service.url + "/metrics", headers=token)
        assert SECRET not in answer.data.decode() + json.dumps(seen)
    assert source.requests[-1].headers["authorization"] == f"Bearer {SECRET}", "it was sealed anew, and still opens"
    service.stop()
    for path in [*service.folder.rglob("*"), service.folder.with_suffix(".err")]:
        if path.is_file():
            assert SECRET.encode() not in path.read_bytes(), path.name
