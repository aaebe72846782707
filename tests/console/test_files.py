"""Files in the console: which were taken, one that could not be read, one taken again."""

from __future__ import annotations

from playwright.sync_api import Page, expect

from reedbasket.demo.turnstile import happenings, make_turnstile
from tests.conftest import RunningService
from tests.service.test_files import BASKET


def test_files_of_a_feed_and_of_its_source(page: Page, service: RunningService) -> None:
    folder = service.files / "turnstile"
    make_turnstile(folder)
    damaged = happenings(folder)["file_damaged"]().split(" ")[0]
    service.client.definitions.apply({"basket.yaml": BASKET})
    service.client.feeds.run("turnstiles", wait_seconds=50)
    page.goto(service.sign_in)
    page.get_by_role("link", name="Feeds").click()
    page.get_by_role("row", name="turnstiles").click()
    page.get_by_role("tab", name="Files").click()
    files = page.get_by_role("grid", name="Files")
    expect(files.get_by_role("row")).to_have_count(101)
    page.get_by_role("button", name="Only failed").click()
    expect(files.get_by_role("row")).to_have_count(2)
    expect(files).to_contain_text(damaged)
    expect(files).to_contain_text("it ends in the middle")
    page.get_by_role("button", name="Show all").click()
    expect(files.get_by_role("row")).to_have_count(101)
    page.get_by_role("button", name="Load prices/fuel-", exact=False).first.click()
    expect(page.get_by_text("The next run loads prices/fuel-")).to_be_visible()
    expect(files).to_contain_text("requeued")
    page.goto(f"{service.url}/sources/turnstile")
    page.get_by_role("button", name="Survey").click()
    page.get_by_role("option", name="prices/fuel-").click()
    expect(page.get_by_role("grid", name="Columns of prices/fuel-")).to_contain_text("decimal")
    page.get_by_role("tab", name="Preview").click()
    page.get_by_role("option", name="prices/fuel-").click()
    expect(page.get_by_text("delimiter semicolon", exact=False)).to_be_visible()
