"""Schedules, versions and people in the console: paused and resumed, a failed window run again, a backfill, signing in by name."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect

from tests.conftest import RunningService
from tests.service.test_schedule import FEED, basket, counts, hourly, prepare, wait_for
from tests.support.source import Answer, Request, serving


def test_windows_pauses_and_backfills_of_a_feed(page: Page, service: RunningService) -> None:
    failing = ["2026-11-22T00:00:00Z"]

    def answer(request: Request) -> Answer:
        return Answer({}, 404) if request.query["from"] in failing else hourly(request)

    schedule = "schedule: {windows: {from: 2026-11-20, length: 1d}}\nfresh_within: 2d"
    with serving(answer) as source:
        prepare(service, basket(source.url, ("days", schedule)))
        wait_for(lambda: counts(service, "days").get("failed") == 1 and not counts(service, "days").get("waiting"))
        page.goto(service.sign_in)
        page.get_by_role("link", name="Feeds", exact=True).click()
        feeds = page.get_by_role("grid", name="Feeds")
        page.get_by_label("Find feeds").fill("marsh nothing-like-it")
        expect(feeds).to_contain_text("No feed matches.")
        page.get_by_label("Find feeds").fill("readings marsh")
        page.get_by_role("link", name="With failed windows 1").click()
        assert page.url.endswith("/feeds?show=windows&find=readings+marsh")
        expect(feeds.get_by_role("row")).to_have_count(2)
        page.get_by_role("row", name=re.compile("days")).click()
        page.get_by_role("tab", name="Schedule").click()
        expect(page.get_by_text("for each 1d")).to_be_visible()
        expect(page.get_by_text("2 days", exact=True)).to_be_visible()
        windows = page.get_by_role("grid", name="Windows")
        page.get_by_role("button", name="Only failed").click()
        expect(windows.get_by_role("row")).to_have_count(2)
        failing.clear()
        page.get_by_role("button", name="Run the window from 2026-11-22T00:00:00Z again").click()
        expect(windows).to_contain_text("No window failed.")
        wait_for(lambda: not counts(service, "days").get("failed"))

        page.get_by_role("link", name="Schedules").click()
        schedules = page.get_by_role("grid", name="Schedules")
        expect(schedules).to_contain_text("for each 1d")
        expect(schedules.get_by_label("2026-11-22 to 2026-11-23: done")).to_be_visible()
        page.go_back()
        page.get_by_role("tab", name="Schedule").click()
        page.get_by_role("button", name="Pause days").click()
        expect(page.get_by_role("button", name="Resume days")).to_be_visible()
        expect(page.get_by_text("when resumed").first).to_be_visible()
        page.get_by_role("button", name="Resume days").click()
        expect(page.get_by_role("button", name="Pause days")).to_be_visible()

        page.get_by_label("From").fill("2026-11-01")
        page.get_by_label("Until").fill("2026-11-04")
        page.get_by_label("Length of each run").fill("soon")
        page.get_by_role("button", name="Backfill").click()
        expect(page.get_by_role("alert")).to_contain_text("not a duration")
        page.get_by_label("Length of each run").fill("1d")
        page.get_by_role("button", name="Backfill").click()
        expect(page.get_by_role("grid", name="Backfills")).to_contain_text("3 of 3")

        service.client.definitions.apply(
            {"f.yaml": FEED.format(name="days", prefix="days_", more="description: without a schedule").removeprefix("---\n")}
        )
        page.reload()
        page.get_by_role("tab", name="Versions").click()
        expect(page.get_by_label("Difference")).to_contain_text("+description: without a schedule")
        page.get_by_role("option", name=re.compile("^1")).click()
        page.get_by_role("button", name="Restore this version").click()
        expect(page.get_by_role("option", name=re.compile("^3"))).to_be_visible()
    assert service.client.feeds.get("days")["schedule"]["rule"] is not None


def test_people_are_let_in_by_name_and_see_what_their_role_allows(page: Page, service: RunningService) -> None:
    page.goto(service.sign_in)
    page.get_by_role("link", name="Settings").click()
    expect(page.get_by_text("with the role admin")).to_be_visible()
    page.get_by_role("tab", name="Users").click()
    page.get_by_label("Name", exact=True).fill("wren")
    page.get_by_label("Password").fill("otters like quiet reeds")
    page.get_by_role("button", name="Add", exact=True).click()
    expect(page.get_by_role("grid", name="Users")).to_contain_text("wren")
    page.get_by_label("Role of wren").select_option("operator")
    page.get_by_role("tab", name="Tokens").click()
    page.get_by_label("Label").fill("nightly")
    page.get_by_role("button", name="Create token").click()
    expect(page.get_by_text("Shown this once: reed_")).to_be_visible()
    page.get_by_role("tab", name="Audit log").click()
    expect(page.get_by_role("grid", name="Audit log")).to_contain_text("wren, viewer")

    page.get_by_role("tab", name="Service").click()
    page.get_by_label("Days of keep days").fill("0")
    page.get_by_label("Days of keep days").fill("30")
    page.get_by_role("button", name="Change", exact=True).click()
    expect(page.get_by_role("button", name="Back to 14")).to_be_visible()
    assert {one["name"]: one["value"] for one in service.client.settings.list()}["keep_days"] == "30"
    page.get_by_role("button", name="Back to 14").click()
    expect(page.get_by_label("Days of keep days")).to_have_value("14")

    page.get_by_role("button", name="Sign out").click()
    page.get_by_label("Name").fill("wren")
    page.get_by_label("Password").fill("no such otter")
    page.keyboard.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("access.wrong_password")
    page.get_by_label("Password").fill("otters like quiet reeds")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="Home")).to_be_visible()
    page.get_by_role("link", name="Settings").click()
    expect(page.get_by_text("You are wren, with the role operator.")).to_be_visible()
    expect(page.get_by_role("tab")).to_have_count(2)
