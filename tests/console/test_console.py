"""The console in headless Chromium, as a person uses it: mouse, keyboard, and what stands on the page."""

from __future__ import annotations

import re
from pathlib import Path

from playwright.sync_api import Page, expect

from tests.conftest import RunningService
from tests.service.test_service import Gate
from tests.support.feeds import SECRET, basket_text
from tests.support.source import Changing, serving

RECORDS = [
    {"id": f"T{i:03d}", "n": i, "kids": [{"seat": "1A"}], "updated_at": f"2026-03-01T{i // 60:02d}:{i % 60:02d}:00Z"}
    for i in range(300)
]


def prepare(service: RunningService, url: str) -> None:
    service.client.secrets.set("test_token", SECRET)
    service.client.definitions.apply({"basket.yaml": basket_text(url, read=60)})


def test_sign_in_run_the_feed_watch_it_finish_see_the_rows(page: Page, service: RunningService) -> None:
    gate = Gate(list(RECORDS), free=4)
    with serving(gate) as source:
        prepare(service, source.url)
        page.goto(service.url)
        expect(page.get_by_text("reed sign-in")).to_be_visible()  # not signed in: sent to the door
        page.goto(service.sign_in)
        expect(page.get_by_role("heading", name="Home")).to_be_visible()
        page.get_by_role("link", name="Feeds", exact=True).click()
        row = page.get_by_role("row", name=re.compile("test"))
        expect(row).to_contain_text("never run")

        page.get_by_role("button", name="Run test").click()
        expect(page.get_by_role("heading", name="Run 1")).to_be_visible()
        expect(page.get_by_role("status", name=re.compile("Outcome running, 0 of 1"))).to_be_visible()
        assert gate.waiting.wait(20)
        things = page.get_by_role("grid", name="Tables").get_by_role("row", name=re.compile("things"))
        expect(things).to_contain_text("reading")
        place = things.bounding_box()
        gate.free = 1000
        gate.open.set()
        expect(page.get_by_role("status", name="Outcome succeeded, 1 of 1 tables done")).to_be_visible(timeout=60000)
        expect(things).to_contain_text("300")
        # Nothing jumped while figures came in.
        assert things.bounding_box() == place
        expect(page.get_by_role("list", name="Log")).to_contain_text("300 read, 300 inserted")
        page.get_by_role("tab", name="Ledger").click()
        expect(page.get_by_role("grid", name="Ledger of the run")).to_contain_text("things_kids")

        page.get_by_role("link", name="marsh").click()
        expect(page.get_by_role("grid", name="Tables")).to_contain_text("things_kids")
        page.get_by_role("row", name="things", exact=True).click()
        expect(page.get_by_role("heading", name="things")).to_be_visible()
        rows = page.get_by_role("grid", name="Rows of things")
        expect(rows).to_contain_text("T299")
        expect(page.get_by_text("Rows 1 to 50")).to_be_visible()
        page.get_by_role("button", name="Older").click()
        expect(page.get_by_text("Rows 51 to 100")).to_be_visible()


def test_lists_follow_by_themselves_and_ask_for_nothing_while_nothing_happens(page: Page, service: RunningService) -> None:
    gate = Gate(list(RECORDS[:10]), free=99)
    with serving(gate) as source:
        prepare(service, source.url)
        page.goto(service.sign_in)
        page.get_by_role("link", name="Runs").click()
        expect(page.get_by_text(re.compile("^No runs yet"))).to_be_visible()
        asked: list[str] = []
        page.on("request", lambda request: asked.append(request.url))
        page.wait_for_timeout(7000)
        assert asked == []
        service.client.feeds.run("test", wait_seconds=30)
        expect(page.get_by_role("grid", name="Runs")).to_contain_text("succeeded", timeout=60000)
        service.stop()
        expect(page.get_by_role("alert")).to_be_visible(timeout=60000)


def test_with_the_keyboard_alone(page: Page, service: RunningService) -> None:
    with serving(Changing(list(RECORDS))) as source:
        prepare(service, source.url)
        service.client.feeds.run("test", wait_seconds=30)
        page.goto(service.sign_in)
        expect(page.get_by_role("heading", name="Home")).to_be_visible()
        page.goto(f"{service.url}/feeds")
        expect(page.get_by_role("grid", name="Feeds")).to_be_visible()
        page.keyboard.press("Tab")
        expect(page.get_by_role("link", name="Skip to content")).to_be_focused()
        for _ in range(30):
            if page.evaluate("document.activeElement.closest('[role=grid]') !== null"):
                break
            page.keyboard.press("Tab")
        page.keyboard.press("ArrowDown")
        page.keyboard.press("Enter")
        expect(page.get_by_role("heading", name="test", exact=True)).to_be_visible()
        page.get_by_role("tab", name="Runs").focus()
        page.keyboard.press("ArrowRight")
        expect(page.get_by_text("none, runs are started by hand")).to_be_visible()
        page.keyboard.press("ArrowRight")
        expect(page.get_by_role("grid", name="Ledger")).to_contain_text("300")
        page.keyboard.press("ArrowRight")
        expect(page.get_by_text("Changes by cursor, upsert, key id")).to_be_visible()
        expect(page.get_by_text("0 records, 1 request")).to_be_visible()


def test_errors_and_emptiness_are_said_plainly(page: Page, service: RunningService) -> None:
    page.goto(service.sign_in)
    expect(page.get_by_text("Nothing is loaded yet")).to_be_visible()
    page.goto(service.sign_in)
    page.reload()
    expect(page.get_by_role("alert")).to_contain_text("access.link_used")

    page.goto(service.client.sign_in_code()["url"])
    expect(page.get_by_text("Nothing is loaded yet")).to_be_visible()
    page.get_by_role("link", name="Feeds", exact=True).click()
    expect(page.get_by_text("No feeds yet")).to_be_visible()
    prepare(service, "http://127.0.0.1:9")
    failed = service.client.feeds.run("test", wait_seconds=30)
    page.goto(f"{service.url}/runs/{failed['id']}")
    expect(page.get_by_role("alert")).to_contain_text("nothing accepts connections there")
    expect(page.get_by_role("alert")).to_contain_text("source.unreachable")
    page.goto(f"{service.url}/warehouses/marsh")
    expect(page.get_by_text("No tables yet")).to_be_visible()
    page.goto(f"{service.url}/feeds/nobody")
    expect(page.get_by_role("alert")).to_contain_text("feed.not_found")


def test_asking_with_sql_and_both_colours(page: Page, service: RunningService, tmp_path: Path) -> None:
    with serving(Changing(list(RECORDS))) as source:
        prepare(service, source.url)
        service.client.feeds.run("test", wait_seconds=30)
    page.goto(service.sign_in)
    page.get_by_role("link", name="marsh").click()
    page.get_by_role("tab", name="SQL").click()
    box = page.get_by_label("SQL statement")
    box.fill("select count(*) as rows_there, 9007199254740993 as big from things")
    box.press("Control+Enter")
    answer = page.get_by_role("grid", name="Answer")
    expect(answer).to_contain_text("300")
    expect(answer).to_contain_text("9007199254740993")
    with page.expect_download() as saved:
        page.get_by_role("button", name="Download as CSV").click()
    assert Path(saved.value.path()).read_text() == "rows_there,big\n300,9007199254740993\n"
    box.fill("delete from things")
    page.get_by_role("button", name="Ask").click()
    expect(page.get_by_role("alert")).to_contain_text("warehouse.query_refused")
    page.reload()
    expect(box).to_have_value(re.compile("rows_there"))  # what was answered is there again; what was refused is not
    paper = page.evaluate("getComputedStyle(document.body).backgroundColor")
    page.get_by_role("button", name="Dark colours").click()
    assert page.evaluate("getComputedStyle(document.body).backgroundColor") != paper
    page.get_by_role("button", name="Sign out").click()
    expect(page.get_by_text("reed sign-in")).to_be_visible()
