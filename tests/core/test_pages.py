"""Every way of paging brings every record once, and notices a source that runs in a circle or says what is not so."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any
from urllib.parse import parse_qsl, urlsplit

import pytest

from reedbasket.contracts.pages import PagesContract
from reedbasket.core.errors import DefinitionError
from reedbasket.core.runs import RunOutcome, RunResult
from reedbasket.core.sources.http.link_header import next_link
from reedbasket.core.sources.http.pagination.pages import Step
from reedbasket.core.spec import load_texts
from tests.support.feeds import Heard, basket_text, run_once, table_rows
from tests.support.source import Answer, Request, serving

THINGS = [{"id": n, "updated_at": f"2026-03-01T06:{n:02d}:00Z"} for n in range(50)]


class Paged:
    """All ways at once. most: records a page at most, whatever is asked for; lies: what it says of its total."""

    def __init__(self, most: int = 20, lies: int | None = None, holes: frozenset[int] = frozenset()) -> None:
        self.most, self.lies, self.holes, self.asked = most, lies, holes, 0

    def __call__(self, request: Request) -> Answer:
        self.asked += 1
        query = request.query
        size = min(int(query.get("take", self.most)), self.most)
        if "beyond" in query:
            start = next((n for n, t in enumerate(THINGS) if t["id"] > int(query["beyond"])), len(THINGS))
        else:
            start = int(query["skip"]) if "skip" in query else (int(query.get("page", 1)) - 1) * size
        items = [] if start in self.holes else THINGS[start : start + size]
        there = start + size < len(THINGS)
        more = f"{request.path}?page={start // size + 2}"
        address = f"http://{request.headers['host']}{more}"
        meta = {"url": address if start else more} if there else {"url": None}
        if self.lies is not None or self.holes:
            there_are = len(THINGS) - 10 * len(self.holes)
            meta["total"] = self.lies if self.lies is not None else there_are  # type: ignore[assignment]
        link = f'<https://elsewhere.example/a,b>; rel="prev", <{address}>; title="a, \\"b\\""; rel="last next"' if there else ""
        return Answer({"items": items, "meta": meta}, headers={"Link": link})


def read(source: Any, rule: str, folder: Path) -> tuple[RunResult, Heard]:
    text = basket_text(source.url, by="full", write="append", cursor="")
    text = text.replace("timeouts:", "rate_limit: {concurrency: 1}\ntimeouts:")
    return run_once(text.replace("pagination: {by: page_token, at: meta.next, param: after}", f"pagination: {rule}"), folder)


class InPages:
    """A source that lists in the pages of one style."""

    size = 3

    def __init__(self, rule: dict[str, Any]) -> None:
        self.rule = rule

    def answer(self, records: Sequence[dict[str, Any]], step: Step) -> tuple[Any, dict[str, str]]:
        sent = {**step.params, **dict(parse_qsl(urlsplit(step.url or "").query))}
        if "skip" in sent:
            start = int(sent["skip"])
        elif "beyond" in sent:
            start = int(sent["beyond"]) + 1
        elif "left" in sent:
            start = len(records) - (len(records) % self.size or self.size) - (int(sent["left"]) - 1) * self.size
        else:
            start = (int(sent.get("page", sent.get("token", 1))) - 1) * self.size
        more = str(start // self.size + 2) if start + self.size < len(records) else None
        headers = {"pages-left": str(-(-max(len(records) - start - self.size, 0) // self.size))}
        if more is not None:
            headers |= {"link": f'<?page={more}>; rel="next"', "x-token": more, "x-next": f"/things?page={more}"}
        meta = {"token": more, "url": f"?page={more}" if more else None}
        return {"items": list(records[start : start + self.size]), "meta": meta}, headers


class TestEveryStyle(PagesContract):
    """The contract of pages over every style, a toy's among them."""

    @pytest.fixture(
        params=[
            {"by": "page_number", "param": "page"}, {"by": "page_number", "param": "page", "size": 3},
            {"by": "offset", "param": "skip"}, {"by": "page_token", "at": "meta.token", "param": "token"},
            {"by": "page_token", "response_header": "X-Token", "param": "token"}, {"by": "link_header"},
            {"by": "next_url", "at": "meta.url"}, {"by": "next_url", "response_header": "X-Next"},
            {"by": "keyset", "column": "id", "param": "beyond"}, {"by": "pages_left", "header": "Pages-Left", "param": "left"},
        ],
        ids=lambda rule: "-".join(map(str, rule.values())),
    )  # fmt: skip
    def paged(self, request: pytest.FixtureRequest) -> InPages:
        return InPages(request.param)


@pytest.mark.parametrize(
    ("rule", "served", "requests"),
    [
        ("{by: page_number, param: page}", Paged(), 4),
        ("{by: page_number, param: page, size: 20}", Paged(), 3),
        ("{by: page_number, param: page, size: 25, size_param: take}", Paged(most=50), 3),
        ("{by: page_number, param: page, size: 500, size_param: take}", Paged(), 3),  # asked for more than it gives
        ("{by: offset, param: skip, size: 30, size_param: take}", Paged(), 3),
        ("{by: offset, param: skip}", Paged(most=50), 2),
        ("{by: offset, param: skip, size: 20}", Paged(lies=20), 3),  # a total too small ends nothing
        ("{by: page_number, param: page, size: 10}", Paged(most=10, holes=frozenset([20])), 6),
        ("{by: link_header}", Paged(), 3),
        ("{by: next_url, at: meta.url}", Paged(), 3),
        ("{by: keyset, column: id, param: beyond}", Paged(), 4),
    ],
)
def test_every_way_brings_every_record_once(tmp_path: Path, rule: str, served: Paged, requests: int) -> None:
    served.asked = 0
    with serving(served) as source:
        result, _ = read(source, rule, tmp_path)
    assert result.outcome is RunOutcome.SUCCEEDED, result.error
    wanted = [t["id"] for t in THINGS if not served.holes or not 20 <= t["id"] < 30]
    assert sorted(r["id"] for r in table_rows(tmp_path, "things")) == wanted
    assert served.asked == requests


def test_what_is_no_record_takes_no_place_among_records_to_skip(tmp_path: Path) -> None:
    class Headed(Paged):
        def __call__(self, request: Request) -> Answer:
            answer = super().__call__(request)
            answer.body["items"].insert(0, ["id", "name"])  # type: ignore[index]
            return answer

    with serving(Headed()) as source:
        result, heard = read(source, "{by: offset, param: skip, size: 20, size_param: take}", tmp_path)
    assert result.outcome is RunOutcome.SUCCEEDED, result.error
    assert sorted(r["id"] for r in table_rows(tmp_path, "things")) == [t["id"] for t in THINGS]
    assert {r.code for r in heard.rejected} == {"record.not_an_object"}


@pytest.mark.parametrize(
    ("rule", "answer", "code"),
    [
        ("{by: page_number, param: nr}", lambda _: {"items": THINGS[:5]}, "source.pages_looped"),
        ("{by: keyset, column: id, param: beyond}", lambda _: {"items": THINGS[:5]}, "source.pages_looped"),
        ("{by: keyset, column: name, param: beyond}", lambda _: {"items": THINGS[:5]}, "source.bad_page_token"),
        (
            "{by: next_url, at: on}",
            lambda r: {"items": [], "on": f"/things?n={'b' if r.query.get('n') == 'a' else 'a'}"},
            "source.pages_looped",
        ),
        ("{by: next_url, at: on}", lambda _: {"items": [], "on": "//elsewhere.example/things"}, "source.unexpected_page"),
        ("{by: next_url, at: on}", lambda _: {"items": [], "on": {"href": "/x"}}, "source.bad_page_token"),
    ],
)
def test_circles_and_strangers_end_the_run(tmp_path: Path, rule: str, answer: Callable[[Request], Any], code: str) -> None:
    with serving(lambda request: Answer(answer(request))) as source:
        result, _ = read(source, rule, tmp_path)
    assert result.error is not None
    assert (result.outcome, result.error["code"]) == (RunOutcome.FAILED, code)
    assert all("elsewhere" not in json.dumps(request.headers) for request in source.requests)


@pytest.mark.parametrize(
    ("header", "found"),
    [
        ("", None),
        ("<https://a.example/?x=1,2;3>; rel=next", "https://a.example/?x=1,2;3"),
        ('</p>; rel="first"; title="x; rel=next", </q>;REL="NEXT"', "/q"),
        ('</p>; rel="nextish", </q>; rel="prev next"', "/q"),
        ("</p>;rel=prev,</q>  ;  rel=next  , </r>; rel=next", "/q"),
        ("no link at all", None),
        ('</p>; crossorigin; rel="next"', "/p"),
    ],
)
def test_links(header: str, found: str | None) -> None:
    assert next_link(header, "next") == found


@pytest.mark.parametrize(
    ("rule", "says"),
    [
        ("{}", 'the key "by" is missing; it is one of keyset, link_header'),
        ("{by: page_nr}", 'did you mean "page_number"'),
        ("{by: page_number, param: p, offset: o}", 'unknown key "offset"'),
        ("{by: page_token, at: t}", 'the key "param" is missing'),
        ("{by: next_url}", "give either `at`"),
        ("{by: link_header, param: x}", 'unknown key "param"'),
        ("{by: link_header, size: 5}", 'unknown key "size"'),
        ("{by: page_number, param: p, sze: 5}", 'did you mean "size"'),
        ("{by: page_number, param: p, size_param: n}", "needs `size`"),
    ],
)
def test_a_rule_that_says_too_little_or_too_much(rule: str, says: str) -> None:
    text = basket_text("http://127.0.0.1:1").replace(
        "pagination: {by: page_token, at: meta.next, param: after}", f"pagination: {rule}"
    )
    with pytest.raises(DefinitionError) as caught:
        load_texts({"basket.yaml": text})
    (mistake,) = caught.value.details  # type: ignore[misc]
    assert ".things.pagination" in mistake["path"]
    assert says in mistake["message"]


@pytest.mark.parametrize(("said", "well"), [(1, True), (2, False)])
def test_a_page_behind_the_last_may_be_refused(tmp_path: Path, said: int, well: bool) -> None:
    """Where the source says that there is none. One that it speaks of has to be there."""

    def answer(request: Request) -> Answer:
        first = request.query["page"] == "1"
        return Answer(
            {"items": THINGS[:7], "meta": {"pages": said}} if first else {"error": "out of range"}, 200 if first else 400
        )

    with serving(answer) as source:
        result, _ = read(
            source, "{by: page_number, param: page, size: 20, size_param: take, total_pages: meta.pages}", tmp_path
        )
    assert (result.outcome is RunOutcome.SUCCEEDED) == well, result.error
    assert well or (result.error is not None and result.error["code"] == "source.bad_request")
