"""Tokens that end, signatures, and redirects: who is asking is shown where it must be, and nowhere else."""

from __future__ import annotations

import hashlib
import hmac
import threading
from pathlib import Path
from typing import Any

import pytest

from reedbasket.core.runs import RunOutcome, RunResult
from tests.core.test_requests import basket
from tests.support.feeds import SECRET, Heard, run_once, table_rows
from tests.support.source import Answer, Request, Source, serving

OAUTH = """auth:
  type: oauth2
  token_url: "{settings.url}/token"
  client_id: reed
  client_secret: "{settings.token}"
"""
THREE = "\n".join(f"  - {{table: t{n}, get: /t{n}, primary_key: id}}" for n in range(3))
FEED = "tables: [t0, t1, t2]"


class Guarded:
    """A token endpoint, and lists that want the token it gave last. ends_in: seconds; worn: how many requests a token is good for."""

    def __init__(self, ends_in: float | None = 3600, worn: int = 1000) -> None:
        self.ends_in, self.worn = ends_in, worn
        self.given: list[str] = []
        self.asked: list[dict[str, str]] = []
        self.left = 0
        self.refuse: Answer | None = None
        self.lock = threading.Lock()

    def __call__(self, request: Request) -> Answer:
        with self.lock:
            if request.path == "/token":
                self.asked.append(request.form | {"authorization": request.headers.get("authorization", "")})
                if self.refuse:
                    return self.refuse
                self.given.append(f"token-{len(self.given)}-{SECRET[::-1]}")
                self.left = self.worn
                said: dict[str, Any] = {"access_token": self.given[-1], "token_type": "bearer"}
                said |= {"expires_in": self.ends_in} if self.ends_in else {}
                return Answer(said | {"refresh_token": f"refresh-{len(self.given)}"})
            if not self.given or request.headers.get("authorization") != f"Bearer {self.given[-1]}" or self.left <= 0:
                return Answer({"message": "who?"}, 401)
            self.left -= 1
            return Answer([{"id": n} for n in range(3)])


def read(source: Source, folder: Path, auth: str = OAUTH, **more: Any) -> tuple[RunResult, Heard]:
    return run_once(basket(source.url, THREE, FEED, auth), folder, **more)


def test_a_token_is_fetched_once_for_all_tables(tmp_path: Path) -> None:
    guarded = Guarded()
    with serving(guarded) as source:
        result, heard = read(source, tmp_path)
    assert result.error is None
    assert len(guarded.asked) == 1
    assert guarded.asked[0]["grant_type"] == "client_credentials"
    assert guarded.asked[0]["authorization"].startswith("Basic ")
    said = repr((heard.requests, heard.lines, result))
    assert SECRET not in said and SECRET[::-1] not in said


def test_a_token_is_renewed_before_it_ends_and_once_when_it_is_refused(tmp_path: Path) -> None:
    # Of three seconds' life the last fifth is left, and each table takes its time.
    hasty = Guarded(ends_in=0.3)
    slow = threading.Event()

    def slowly(request: Request) -> Answer:
        slow.wait(0.3 if request.path != "/token" else 0)
        return hasty(request)

    with serving(slowly) as source:
        result, heard = read(source, tmp_path)
        assert result.error is None
        assert len(hasty.given) == 3
        assert all(request.status == 200 for request in heard.requests)
        worn = Guarded(worn=2)
        source.handler = worn
        result, heard = read(source, tmp_path / "worn")
        assert (result.outcome, len(worn.given)) == (RunOutcome.SUCCEEDED, 2)
        useless = Guarded(worn=0)
        source.handler = useless
        result, heard = read(source, tmp_path / "useless")
    assert result.error is not None
    assert (result.error["code"], len(useless.given)) == ("source.credentials_refused", 2)
    assert [r.status for r in heard.requests if "/token" not in r.url] == [401, 401]


@pytest.mark.parametrize(
    ("answer", "code", "says"),
    [
        (Answer({"error": "invalid_client", "error_description": f"no {SECRET}"}, 401), "source.sign_in_failed", "no •••"),
        (Answer({"hello": 1}), "source.sign_in_failed", "no token in it"),
        (Answer(raw=b"<html>", status=200), "source.sign_in_failed", "no token in it"),
        (Answer({}, 503), "source.failed", "503"),
    ],
)
def test_no_token_is_to_be_had(tmp_path: Path, answer: Answer, code: str, says: str) -> None:
    guarded = Guarded()
    guarded.refuse = answer
    with serving(guarded) as source:
        result, _ = read(source, tmp_path)
    assert result.error is not None
    assert (result.error["code"], says in result.error["found"]) == (code, True), result.error
    assert result.tables[0].phase == "failed"


def test_refresh_tokens_that_change_with_every_use(tmp_path: Path) -> None:
    auth = OAUTH.replace("client_id: reed", 'client_id: reed\n  grant: refresh_token\n  refresh_token: "{settings.token}"')
    auth = auth.replace('client_secret: "{settings.token}"', "client_in: body")
    guarded = Guarded(worn=1)
    with serving(guarded) as source:
        result, _ = read(source, tmp_path, auth)
        assert result.error is None
        assert [asked["refresh_token"] for asked in guarded.asked] == [SECRET, "refresh-1", "refresh-2"]
        assert guarded.asked[0]["client_id"] == "reed"
        guarded.refuse = Answer({"error": "invalid_grant"}, 400)
        result, _ = read(source, tmp_path, auth)
    assert result.error is not None
    assert result.error["code"] == "source.sign_in_needed"


SIGNER = """
import hashlib, hmac

def sign(request, settings):
    text = request.method + request.url
    return {"X-Seal": hmac.new(settings["token"].encode(), text.encode(), hashlib.sha256).hexdigest()}
"""


def test_requests_signed_by_a_small_hook(tmp_path: Path) -> None:
    def answer(request: Request) -> Answer:
        url = f"GEThttp://{request.headers['host']}{request.path}"
        seal = hmac.new(SECRET.encode(), url.encode(), hashlib.sha256).hexdigest()
        return Answer([{"id": 1}]) if request.headers.get("x-seal") == seal else Answer({}, 403)

    with serving(answer) as source:
        missing, _ = read(source, tmp_path, "auth: {type: signer, name: seal}")
        (tmp_path / "signers").mkdir()
        (tmp_path / "signers" / "seal.py").write_text(SIGNER)
        sealed, _ = read(source, tmp_path, "auth: {type: signer, name: seal}")
        (tmp_path / "signers" / "seal.py").write_text("def sign(request, settings):\n    raise KeyError(settings['token'])\n")
        broken, _ = read(source, tmp_path, "auth: {type: signer, name: seal}")
    assert missing.error is not None and broken.error is not None
    assert (missing.error["code"], sealed.error, broken.error["code"]) == (
        "source.signer_missing",
        None,
        "source.signer_failed",
    )
    assert SECRET not in repr(broken)


def test_redirects_keep_credentials_at_home(tmp_path: Path) -> None:
    seen: list[Request] = []

    def stranger(request: Request) -> Answer:
        seen.append(request)
        return Answer([{"id": 7}])

    with serving(stranger) as other:

        def answer(request: Request) -> Answer:
            assert request.headers["authorization"] == f"Bearer {SECRET}"
            if request.path == "/v1/t0":
                return Answer(raw=b"", status=301, headers={"Location": "/v2/t0?page=1"})
            if request.path == "/v1/t1":
                return Answer(raw=b"", status=302, headers={"Location": other.url + "/report.json?signature=1"})
            if request.path == "/v1/t2":
                return Answer(raw=b"", status=307, headers={"Location": "/v1/t2/"})
            if request.path == "/v1/t2/":
                return Answer(raw=b"", status=307, headers={"Location": "/v1/t2"})
            return Answer([{"id": 1}])

        with serving(answer) as source:
            auth = 'auth: {type: bearer, token: "{settings.token}"}\nheaders: {X-More: "{settings.token}"}'
            result, _ = read(source, tmp_path, auth)
            posting = basket(source.url, "  - {table: t1, post: /t1, body: {json: {a: 1}}}", "tables: [t1]", auth)
            posted, _ = run_once(posting, tmp_path / "posted")
    assert [t.error and t.error["code"] for t in result.tables] == [None, None, "source.redirect_loop"]
    assert (table_rows(tmp_path, "t0"), table_rows(tmp_path, "t1")) == ([{"id": 1}], [{"id": 7}])
    assert len(seen) == 1
    assert "authorization" not in seen[0].headers and "x-more" not in seen[0].headers
    assert SECRET not in repr(seen[0])
    assert posted.error is not None
    assert posted.error["code"] == "source.moved"
