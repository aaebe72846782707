"""What all page styles have in common."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from typing import Any, Protocol

import pytest

from ..core.errors import PagesLooped
from ..core.sources.http.pagination.pages import MOST_EMPTY_LED, Page, Pages, Step
from ..core.spec.pagination import Pagination

Record = dict[str, Any]


class Paged(Protocol):
    """A source that lists records in pages of one style.

    Attributes:
        rule: `pagination`, as people write it.
        size: records on a page, at least 2.
    """

    rule: dict[str, Any]
    size: int

    def answer(self, records: Sequence[Record], step: Step) -> tuple[Any, Mapping[str, str]]:
        """(body, headers in lower case) of one request. The body is {"items": the page's records, …}."""


class PagesContract:
    """The tests need a fixture `paged`. Records are {"id": n}, ascending."""

    @pytest.mark.parametrize("pages", [0, 1, 2, 3.5])
    def test_every_record_comes_once(self, paged: Paged, pages: float) -> None:
        records = [{"id": n} for n in range(int(paged.size * pages))]
        assert [record for page in _read(paged, records) for record in page] == records

    def test_the_same_answer_again_is_a_circle(self, paged: Paged) -> None:
        records = [{"id": n} for n in range(paged.size * 3)]
        pages = _pages(paged)
        step: Step | None = pages.first()
        assert step is not None
        answered = paged.answer(records, step)
        with pytest.raises(PagesLooped):
            for _ in range(4):
                assert step is not None
                step = pages.after(_page(answered))

    def test_pages_that_bring_nothing_end(self, paged: Paged) -> None:
        """Whatever an answer says about more pages, a pass over nothing ends."""
        pages = _pages(paged)
        step: Step | None = pages.first()
        for turn in range(MOST_EMPTY_LED + 2):
            assert step is not None
            body, headers = paged.answer([{"id": n} for n in range(paged.size * (turn + 3))], step)
            try:
                step = pages.after(_page(({**body, "items": []}, headers)))
            except PagesLooped:
                return
            if step is None:
                return
        pytest.fail("it goes on for ever")


def _pages(paged: Paged) -> Pages:
    pages: Pages = Pagination.model_validate(paged.rule).begin("reading things")
    return pages


def _read(paged: Paged, records: Sequence[Record]) -> Iterator[list[Record]]:
    pages = _pages(paged)
    step: Step | None = pages.first()
    while step is not None:
        answered = paged.answer(records, step)
        yield answered[0]["items"]
        step = pages.after(_page(answered))


def _page(answered: tuple[Any, Mapping[str, str]]) -> Page:
    body, headers = answered
    items = body["items"]
    return Page("http://here/things", headers, body, json.dumps(body).encode(), len(items), items[-1] if items else None)
