"""What people look at after a run, in the console: drift, rejects and their replay, plan, verify, profile, the way in."""

from __future__ import annotations

import re
from typing import Any

import pyarrow.parquet as pq
from playwright.sync_api import Page, expect

from tests.conftest import RunningService
from tests.service.test_service import prepare
from tests.support.source import Changing, serving


def record(number: int, **more: Any) -> dict[str, Any]:
    made = {
        "id": f"T{number:03d}",
        "n": number,
        "at": "quay",
        "updated_at": f"2026-03-01T06:{number:02d}:00Z",
        "kids": [{"c": 1}],
    }
    return made | more


def look(page: Page, service: RunningService, path: str) -> None:
    """Signed in, at a page."""
    page.goto(service.client.sign_in_code()["url"])
    expect(page.get_by_role("heading", name="Home")).to_be_visible()
    page.goto(service.url + path)


def tab(page: Page, name: str) -> None:
    page.get_by_role("tab", name=re.compile(f"^{name}")).click()


def test_what_drifted_was_rejected_and_replayed(page: Page, service: RunningService) -> None:
    records = [record(n) for n in range(20)]
    client = service.client
    with serving(Changing(records)) as source:
        prepare(client, source.url, feed="on_drift: {changed_type: reject}")
        client.feeds.run("test", wait_seconds=30)
        look(page, service, "/feeds/test")
        tab(page, "Drift")
        expect(page.get_by_text("the source came as it was expected")).to_be_visible()
        tab(page, "Rejects")
        expect(page.get_by_text("every record that was read is in its table")).to_be_visible()

        records += [record(30, n="thirty", hold=1.5), record(31, hold=2.5)]
        page.get_by_role("button", name="Run test").click()
        expect(page.get_by_role("status", name="Outcome succeeded, 1 of 1 tables done")).to_be_visible(timeout=60000)
        page.goto(f"{service.url}/feeds/test")
        tab(page, "Drift")
        drift = page.get_by_role("grid", name="Drift")
        expect(drift.get_by_role("row").filter(has_text="hold")).to_contain_text("things")
        page.get_by_role("tab", name="Rejects (1)").click()
        rejects = page.get_by_role("grid", name="Rejects")
        expect(rejects).to_contain_text("value.wrong_type")
        expect(rejects).to_contain_text('"id":"T030"')

        prepare(client, source.url)  # types are accepted from now on
        page.get_by_role("button", name="Replay them").click()
        expect(page.get_by_role("heading", name="Run 3")).to_be_visible()
        expect(page.get_by_role("status", name="Outcome succeeded, 1 of 1 tables done")).to_be_visible(timeout=60000)
        page.goto(f"{service.url}/feeds/test")
        tab(page, "Rejects")
        expect(page.get_by_text("every record that was read is in its table")).to_be_visible()
        tab(page, "Drift")
        expect(page.get_by_role("grid", name="Drift").get_by_role("row").filter(has_text="int64")).to_be_visible()


def test_source_and_warehouse_side_by_side(page: Page, service: RunningService) -> None:
    records = [record(n) for n in range(20)]
    with serving(Changing(records)) as source:
        prepare(service.client, source.url)
        service.client.feeds.run("test", wait_seconds=30)
        look(page, service, "/feeds/test")
        tab(page, "Verify")
        page.get_by_role("button", name="Compare values too").click()
        verified = page.get_by_role("grid", name="Verified tables")
        expect(verified.get_by_role("row").filter(has_text="things_kids")).to_contain_text("same")
        expect(page.get_by_role("grid", name="First differences")).to_have_count(0)

        records[4]["at"], records[5]["kids"], records[6]["colour"] = "jetty", [{"c": 1}, {"c": 9}], "green"
        page.get_by_role("button", name="Compare keys").click()
        expect(verified.get_by_role("row").filter(has_text="things_kids")).to_contain_text("differs")
        page.get_by_role("button", name="Compare values too").click()
        first = page.get_by_role("grid", name="First differences")
        expect(first.get_by_role("row").filter(has_text="T004")).to_contain_text("jetty")
        expect(first.get_by_role("row").filter(has_text="T004")).to_contain_text("quay")
        expect(first.get_by_role("row").filter(has_text="T005, 1")).to_contain_text("only at the source")
        expect(page.get_by_text("columns that no run has loaded yet: colour")).to_be_visible()
    # The source is gone now: said as that, and nothing is claimed of the tables.
    page.get_by_role("button", name="Compare keys").click()
    expect(verified).to_contain_text("source.unreachable")


def test_columns_in_figures_and_the_way_into_the_warehouse(page: Page, service: RunningService) -> None:
    records = [record(n, **({} if n % 2 else {"at": None})) for n in range(20)]
    with serving(Changing(records)) as source:
        prepare(service.client, source.url)
        service.client.feeds.run("test", wait_seconds=30)
    look(page, service, "/warehouses/marsh/things")
    tab(page, "Profile")
    columns = page.get_by_role("grid", name="Columns")
    expect(columns.get_by_role("row").filter(has_text=re.compile("^at"))).to_contain_text(re.compile(r"10\s*1\s*quay\s*quay"))
    expect(columns.get_by_role("row").filter(has_text=re.compile("^id"))).to_contain_text("T019")
    page.goto(f"{service.url}/warehouses/marsh?tab=check")
    page.get_by_role("button", name="Check the connection").click()
    steps = page.get_by_role("grid", name="Steps")
    expect(steps.get_by_role("row")).to_have_count(5)
    expect(steps.get_by_text("ok", exact=True)).to_have_count(4)


def test_records_as_files_and_a_table_compared_with_its_source(page: Page, service: RunningService) -> None:
    with serving(Changing([record(n) for n in range(20)])) as source:
        prepare(service.client, source.url)
        service.client.feeds.run("test", wait_seconds=30)
        look(page, service, "/warehouses/marsh/things")
        tab(page, "Compare with the source")
        page.get_by_role("button", name="Compare values too").click()
        expect(page.get_by_role("grid", name="Verified tables")).to_contain_text("same", timeout=20000)

        page.goto(f"{service.url}/feeds/test?tab=extracts")
        page.get_by_role("button", name="Write an extract").click()
        expect(page.get_by_role("status", name=re.compile("Outcome succeeded"))).to_be_visible(timeout=20000)
        page.get_by_role("link", name="an extract").click()
    files = page.get_by_role("grid", name="Files of test-2")
    expect(files).to_contain_text("things.parquet")
    with page.expect_download() as download:
        files.get_by_role("link", name="things.parquet").click()
    assert pq.read_table(download.value.path()).num_rows == 20
    page.get_by_role("button", name="Remove test-2").click()
    expect(files).to_have_count(0)
