"""Sources in the console: a survey, a preview with both sides of the wire, a run's requests; by mouse and keyboard."""

from __future__ import annotations

import re
import threading

from playwright.sync_api import Page, expect

from tests.conftest import RunningService
from tests.core.test_requests import basket
from tests.support.feeds import SECRET
from tests.support.source import Answer, Request, serving


def test_from_a_look_at_the_source_to_the_requests_of_its_run(page: Page, service: RunningService) -> None:
    hold = threading.Event()

    def answer(request: Request) -> Answer:
        if request.path == "/v1/gone":
            return Answer({"why": "moved away"}, 410)
        if hold.is_set():
            hold.clear()
            return Answer({}, 429, {"Retry-After": "2"})
        return Answer({"rows": [{"id": n, "name": f"landing {n}", "token": SECRET} for n in range(4)]})

    tables = "  - {table: landings, get: /landings, records: rows, primary_key: id}\n"
    tables += "  - {table: gone, post: /gone, body: {json: {day: 1}}, records: rows}"
    with serving(answer) as source:
        service.client.secrets.set("test_token", SECRET)
        auth = 'auth: {type: bearer, token: "{settings.token}"}'
        service.client.definitions.apply({"basket.yaml": basket(source.url, tables, "tables: [landings]", auth)})
        page.goto(service.sign_in)
        page.get_by_role("link", name="Sources").click()
        row = page.get_by_role("row", name="test")
        expect(row).to_contain_text("healthy")
        row.click()
        page.get_by_role("button", name="Survey").click()
        columns = page.get_by_role("grid", name="Columns of landings")
        expect(columns.get_by_role("row", name=re.compile("^id"))).to_contain_text("key")
        page.get_by_role("option", name="landings").focus()
        page.keyboard.press("ArrowDown")
        page.keyboard.press("Enter")
        expect(page.get_by_role("alert")).to_contain_text("moved away")

        page.get_by_role("tab", name="Preview").click()
        page.get_by_role("button", name="Preview at landings").click()
        expect(page.get_by_role("grid", name="Records of landings")).to_contain_text("landing 3")
        expect(page.get_by_label("Request", exact=True)).to_contain_text("authorization: •••")
        expect(page.get_by_label("Answer", exact=True)).to_contain_text('"token": "•••"')
        page.get_by_role("option", name="gone").click()
        expect(page.get_by_role("alert")).to_contain_text("it answered 410")
        expect(page.get_by_label("Request", exact=True)).to_contain_text('{ "day": 1 }')
        assert SECRET not in page.content()

        page.get_by_role("tab", name="Check").click()
        page.get_by_role("button", name="Check the connection").click()
        expect(page.get_by_role("grid", name="Steps")).to_contain_text("4 on the first page of landings")

        hold.set()
        page.goto(f"{service.url}/feeds/test")
        page.get_by_role("button", name="Run test").click()
        expect(page.get_by_text(re.compile("landings waits until .*the source said how long"))).to_be_visible()
        expect(page.get_by_role("status", name=re.compile("Outcome succeeded"))).to_be_visible(timeout=60000)
        page.get_by_role("tab", name="Requests").click()
        grid = page.get_by_role("grid", name="Requests")
        expect(grid).to_contain_text("attempt 2")
        page.get_by_role("button", name="Only failed").click()
        expect(grid).to_contain_text("429")
        expect(grid).not_to_contain_text("attempt 2")
        with page.expect_download() as download:
            page.get_by_role("link", name="Download as NDJSON").click()
        assert download.value.suggested_filename == "run-1-requests.ndjson"
        page.get_by_role("button", name="What went over the wire of request 1").click()
        expect(page.get_by_label("Answer", exact=True)).to_contain_text("retry-after: 2")

        page.get_by_role("button", name="Run again, and keep the bodies").click()
        expect(page.get_by_role("heading", name="Run 2")).to_be_visible()
        expect(page.get_by_role("status", name=re.compile("Outcome succeeded"))).to_be_visible(timeout=60000)
        page.get_by_role("tab", name="Requests").click()
        page.get_by_role("button", name="What went over the wire of request 1").click()
        expect(page.get_by_label("Answer", exact=True)).to_contain_text("landing 3")
        expect(page.get_by_label("Request", exact=True)).to_contain_text("authorization: •••")
        assert SECRET not in page.content()
        page.get_by_role("tab", name="Steps").click()
        expect(page.get_by_role("list", name="Steps of landings")).to_contain_text(
            re.compile("Source.*4 records.*Loaded.*unchanged4")
        )
