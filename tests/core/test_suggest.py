"""What answers suggest: records, pages, key and cursor, by the shapes that APIs have."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from reedbasket.core.runs.inspection.suggestions import suggest_from_answer, suggest_from_columns
from reedbasket.core.runs.inspection.trial import try_table
from reedbasket.core.runs.planning.order import source_order
from reedbasket.core.spec import load_texts
from tests.core.test_requests import basket
from tests.support.feeds import order_for, run_context_for
from tests.support.source import Answer, Request, serving

TWO = [{"id": 1, "at": "2026-01-01"}, {"id": 2, "at": "2026-01-02"}]


@pytest.mark.parametrize(
    ("body", "headers", "query", "records", "following"),
    [
        ({"items": TWO, "meta": {"next": "k9", "total": 9}}, {}, "", "items", {"by": "page_token", "at": "meta.next", "param": "after"}),
        ({"data": {"rows": TWO}, "next_page_token": "t"}, {}, "", "data.rows",
         {"by": "page_token", "at": "next_page_token", "param": "page_token"}),
        ({"results": TWO, "next": "https://a.example/x?page=2"}, {}, "", "results", {"by": "next_url", "at": "next"}),
        ({"value": TWO, "@odata.nextLink": "/x?skip=2"}, {}, "", "value", {"by": "next_url", "at": '"@odata.nextLink"'}),
        (TWO, {"link": '<https://a.example/x?p=2>; rel="next"'}, "", "", {"by": "link_header"}),
        (TWO, {"x-next-token": "abc"}, "", "", {"by": "page_token", "response_header": "X-Next-Token", "param": "token"}),
        ({"data": TWO, "page": 1, "pages": 5, "per_page": 2}, {}, "", "data",
         {"by": "page_number", "param": "page", "total_pages": "pages", "size": 2, "size_param": "per_page"}),
        ({"data": TWO, "total": 40}, {}, "?skip=0&take=2", "data", {"by": "offset", "param": "skip", "size": 2, "size_param": "take"}),
        ({"data": TWO, "total": 2}, {}, "", "data", None),
    ],
)  # fmt: skip
def test_how_pages_go_on(body: Any, headers: dict[str, str], query: str, records: str, following: Any) -> None:
    found = suggest_from_answer(body, headers, f"https://a.example/x{query}", None)
    assert found.records[0].say == records
    assert (found.pagination[0].say if found.pagination else None) == following


def test_keys_and_cursors_by_their_values() -> None:
    columns = [
        ("name", "text", ["a", "b", "c"]), ("ride_id", "text", ["x", "y", "z"]), ("n", "int64", [3, 1, 2]),
        ("created_at", "timestamp", [1, 2, 3]), ("updated_at", "timestamp", [1, 2, 2]), ("closed_at", "timestamp", [1, None, 3]),
    ]  # fmt: skip
    keys, cursors = suggest_from_columns(columns)
    assert [one.say for one in keys] == ["ride_id", "name", "n"]
    assert [one.say["column"] for one in cursors] == ["updated_at", "created_at"]


def test_a_table_that_is_still_being_declared(tmp_path: Path) -> None:
    """Nothing is said of records or pages: the answer is there all the same. What it suggests, said, brings three pages."""

    def answer(request: Request) -> Answer:
        start = int(request.query.get("after", 0))
        rows = [
            {"id": n, "updated_at": f"2026-01-0{n % 9 + 1}T00:00:00Z", "note": "long" * 100} for n in range(start, start + 4)
        ]
        return Answer({"list": rows, "paging": {"next": str(start + 4), "total": 40}, "echo": request.headers.get("x-key")})

    def tried(url: str, more: str, pages: int) -> Any:
        text = basket(
            url,
            f"\n  - {{table: rides, get: /rides{more}}}",
            "tables: [rides]",
            'auth: {type: api_key, in: header, name: X-Key, key: "{settings.token}"}',
        )
        known = load_texts({"b": text})
        order = order_for(text)
        source = source_order(known, "test", started=order.started)
        return try_table(
            source, run_context_for(order, tmp_path), "rides", known.connectors["test-api"].tables["rides"], pages=pages
        )

    with serving(answer) as source:
        first = tried(source.url, "", 1)
        assert first.error is not None and first.answer["paging"] == {"next": "4", "total": 40}
        assert len(first.answer["list"]) == 4 and first.answer["list"][3] == {"…": 1}
        assert first.answer["list"][0]["note"].endswith("…") and "planted-secret" not in str(first)
        (records,), (following, *_) = first.suggested.records, first.suggested.pagination
        assert (records.say, following.say) == ("list", {"by": "page_token", "at": "paging.next", "param": "after"})
        second = tried(source.url, ", records: list, pagination: {by: page_token, at: paging.next, param: after}", 3)
        assert (second.pages, second.error, len(second.rows)) == ([4, 4, 4], None, 12)
        assert second.suggested.key[0].say == "id" and second.suggested.cursor[0].say == {"column": "updated_at"}
