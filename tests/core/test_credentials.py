"""Who is asking: every way to show it arrives with every request, and stands in no text of ours."""

from __future__ import annotations

import base64
from collections.abc import Callable
from pathlib import Path

import pytest

from reedbasket.core.errors import DefinitionError
from reedbasket.core.runs import RunOutcome
from reedbasket.core.spec import load_texts
from tests.support.feeds import SECRET, basket_text, run_once
from tests.support.source import Answer, Request, serving

PAIR = base64.b64encode(f"clerk:{SECRET}".encode()).decode()


def text_with(url: str, auth: str, rule: str = "{by: next_url, at: meta.next}") -> str:
    text = basket_text(url, by="full", write="append", cursor="")
    text = text.replace('auth: {type: bearer, token: "{settings.token}"}', auth)
    return text.replace("pagination: {by: page_token, at: meta.next, param: after}", f"pagination: {rule}")


def two_pages(request: Request) -> Answer:
    """The second page's address carries an outdated key, as some sources' addresses do."""
    first = "page" not in request.query
    return Answer({"items": [{"id": 1 if first else 2}], "meta": {"next": "/things?page=2&api_key=old" if first else None}})


@pytest.mark.parametrize(
    ("auth", "shown"),
    [
        ("", lambda r: "authorization" not in r.headers),
        ('auth: {type: bearer, token: "{settings.token}"}', lambda r: r.headers["authorization"] == f"Bearer {SECRET}"),
        (
            'auth: {type: basic, user: clerk, password: "{settings.token}"}',
            lambda r: r.headers["authorization"] == f"Basic {PAIR}",
        ),
        (
            'auth: {type: api_key, in: header, name: X-Marsh-Key, key: "{settings.token}"}',
            lambda r: r.headers["x-marsh-key"] == SECRET,
        ),
        ('auth: {type: api_key, in: query, name: api_key, key: "{settings.token}"}', lambda r: r.query["api_key"] == SECRET),
        (
            'auth: {type: api_key, in: cookie, name: pass, key: "k-{settings.token}"}',
            lambda r: r.headers["cookie"] == f"pass=k-{SECRET}",
        ),
    ],
)
def test_each_way_arrives_with_every_request(tmp_path: Path, auth: str, shown: Callable[[Request], bool]) -> None:
    with serving(two_pages) as source:
        result, heard = run_once(text_with(source.url, auth), tmp_path)
        assert (result.outcome, len(source.requests)) == (RunOutcome.SUCCEEDED, 2), result.error
        assert all(shown(request) for request in source.requests)
        # The source repeats what it was sent in its error.
        source.handler = lambda request: Answer(f"{request.headers} {request.query} {request.path}", status=400)
        failed, _ = run_once(text_with(source.url, auth), tmp_path, run=2)
    said = repr((heard.requests, heard.lines, failed.error, [vars(t) for t in failed.tables]))
    assert failed.error is not None
    assert SECRET not in said
    assert PAIR not in said


@pytest.mark.parametrize(
    ("auth", "path", "says"),
    [
        ("auth: {}", "auth", "one of api_key, basic, bearer, oauth2, signer"),
        ('auth: {bearer: "{settings.token}"}', "auth", 'the key "type" is missing'),
        ("auth: {type: bearr}", "auth.type", 'did you mean "bearer"'),
        ('auth: {type: api_key, key: "{settings.token}"}', "auth.name", "is missing"),
        ('auth: {type: bearer, token: "{settings.token}", name: c}', "auth.name", 'unknown key "name"'),
        ('auth: {type: api_key, name: "X Y", key: "{settings.token}"}', "auth", "not a valid name of a header"),
        ('auth: {type: basic, user: clerk, password: "{settings.word}"}', "auth.password", "settings.word"),
    ],
)
def test_what_is_said_wrongly_is_told_with_its_place(auth: str, path: str, says: str) -> None:
    with pytest.raises(DefinitionError) as caught:
        load_texts({"basket.yaml": text_with("http://127.0.0.1:1", auth)})
    (mistake,) = caught.value.details  # type: ignore[misc]
    assert (mistake["path"], says in mistake["message"]) == (f"connectors.test-api.{path}", True)
