"""Made in the browser: a feed from nothing to rows in the warehouse, and a connector by trying an API."""

from __future__ import annotations

import re
import sqlite3
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from playwright.sync_api import Page, expect
from werkzeug.serving import make_server

from reedbasket.demo.ferries import story_now
from reedbasket.demo.passes import HOLDERS, create_passes
from tests.conftest import RunningService
from tests.console.test_console import RECORDS
from tests.support.feeds import SECRET, basket_text, table_rows
from tests.support.source import Changing, serving

MARSH = "warehouse: marsh\ntype: sqlite\npath: marsh.db\n"


@contextmanager
def passes() -> Iterator[str]:
    app, _ = create_passes("quay", "otters-know", story_now())
    server: Any = make_server("127.0.0.1", 0, app, threaded=True)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield f"http://127.0.0.1:{server.server_port}"
    finally:
        server.shutdown()


def test_a_feed_from_nothing_to_rows_in_the_warehouse(page: Page, service: RunningService) -> None:
    service.client.definitions.apply({"marsh.yaml": MARSH})
    with sqlite3.connect(service.files / "yard.db") as db:
        db.execute("create table boats (id integer primary key, name text, owner text, updated_at datetime)")
        db.execute("create table oars (id integer primary key)")
        db.executemany(
            "insert into boats values (?, ?, ?, ?)", [(n, f"B{n}", "wren", f"2026-03-0{n} 06:00:00") for n in range(1, 6)]
        )
        db.commit()
    page.goto(service.sign_in)
    page.get_by_role("link", name="Make a feed").click()
    page.get_by_role("button", name="A new one").click()
    page.get_by_label("Type", exact=True).select_option("SQLite")
    page.get_by_label("Name").fill("yard")
    page.get_by_label("Path; a relative").fill("nowhere.db")
    page.get_by_role("button", name="Check the connection").click()
    expect(page.get_by_role("grid", name="Steps")).to_contain_text("failed")
    page.get_by_label("Path; a relative").fill("yard.db")
    page.get_by_role("button", name="Check the connection").click()
    expect(page.get_by_role("grid", name="Steps")).to_contain_text("2 tables and views")

    page.get_by_role("button", name="Next: tables").click()
    page.get_by_role("button", name="Show tables").click()
    page.get_by_label("Find tables").fill("boat")
    page.get_by_label("Select boats").check()
    page.get_by_role("button", name="Show some records").click()
    expect(page.get_by_role("grid", name="Records of boats")).to_contain_text("B5")
    # Leaving and coming back loses nothing.
    page.get_by_role("link", name="Workbench").click()
    page.get_by_role("link", name="New feed").click()
    page.get_by_role("link", name="Changes and columns").click()
    page.get_by_label("Changes by", exact=True).select_option("cursor")
    expect(page.get_by_text("By cursor it misses: deletes")).to_be_visible()
    page.get_by_label("Load owner").select_option("left out")
    page.get_by_label("Name of name in the warehouse").fill("boat_name")

    page.get_by_role("button", name="Next: feed and schedule").click()
    page.get_by_label("Name", exact=True).fill("yard")
    page.get_by_label("Into").select_option("marsh")
    page.keyboard.press("Alt+y")
    text = page.get_by_label("Definitions as YAML")
    expect(text).to_have_value(re.compile("exclude_columns:\n +- owner"))
    text.fill(text.input_value().replace("into: marsh", "into: swamp"))
    page.get_by_role("button", name="Check it").click()
    expect(page.get_by_role("alert").first).to_contain_text(re.compile(r"Line \d+, feeds.yard.into: .*swamp"))
    text.fill(text.input_value().replace("into: swamp", "into: marsh\ntable_prefix: yd_"))
    page.keyboard.press("Alt+y")
    expect(page.get_by_label("Table prefix")).to_have_value("yd_")

    page.get_by_role("button", name="Next: plan and create").click()
    page.get_by_role("button", name="Plan it").click()
    expect(page.get_by_text("+ boat_name text")).to_be_visible()
    page.get_by_role("button", name="Create and run").click()
    expect(page.get_by_role("status", name="Outcome succeeded, 1 of 1 tables done")).to_be_visible(timeout=60000)
    rows = table_rows(service.warehouses, "yd_boats")
    assert [row["boat_name"] for row in rows] == ["B1", "B2", "B3", "B4", "B5"] and "owner" not in rows[0]
    page.get_by_role("link", name="New feed").click()
    expect(page.get_by_text("From a source to rows in a warehouse.")).to_be_visible()  # it was made; the next begins anew


def test_a_connector_by_trying_the_api(page: Page, service: RunningService) -> None:
    service.client.definitions.apply({"marsh.yaml": MARSH})
    with passes() as url:
        page.goto(service.sign_in)
        page.get_by_role("link", name="Workbench").click()
        page.get_by_label("Connector").fill("partner-api")
        page.get_by_label("Address").fill(url)
        page.get_by_label("Authentication").select_option("OAuth 2, client credentials")
        page.get_by_label("Client id").fill("quay")
        page.get_by_label("Value").fill("not this")
        page.get_by_role("button", name="Save secret").click()
        page.get_by_label("Table", exact=True).fill("holders")
        page.get_by_label("Path", exact=True).fill("/v2/pass-holders")
        page.get_by_role("button", name="Fetch a page").click()
        expect(page.get_by_role("alert")).to_contain_text("no such partner")
        page.get_by_label("New value (is set)").fill("otters-know")
        page.get_by_role("button", name="Save secret").click()
        expect(page.get_by_label("New value (is set)")).to_have_value("")
        page.get_by_role("button", name="Fetch a page").click()
        page.get_by_role("button", name="use as records").click()
        page.get_by_role("button", name="Fetch a page").click()
        suggested = page.get_by_role("list", name="What the answer suggests")
        for words in ("by: page_number, param: page, total_pages: pages", "count", "pass_no"):
            suggested.get_by_role("button", name=words, exact=True).click()
        page.get_by_role("button", name="Fetch three pages").click()
        expect(page.get_by_role("heading", name="200, 3 pages: 100, 100, 100 records")).to_be_visible()
        page.get_by_role("button", name="Save connector").click()
        expect(page.get_by_text("connector partner-api (new), source partner (new)")).to_be_visible()
        page.get_by_role("button", name="Correct types").click()
        page.get_by_label("Load pass_no as").select_option("json")
        page.get_by_role("button", name="Make a feed of it").click()
        expect(page.get_by_text("1 table chosen")).to_be_visible()
        page.keyboard.press("Alt+y")
        expect(page.get_by_label("Definitions as YAML")).to_have_value(
            re.compile("from: partner\n.*cast:\n +pass_no: json", re.S)
        )
    kept = service.client.definitions.list()
    table = next(one for one in kept if one["kind"] == "connector")["data"]["tables"][0]
    assert table == {
        "table": "holders",
        "get": "/v2/pass-holders",
        "records": "data",
        "pagination": {"by": "page_number", "param": "page", "total_pages": "pages"},
        "total": "count",
        "primary_key": "pass_no",
    }
    assert HOLDERS > 300 and "otters-know" not in str(kept) + page.content()


def test_a_failing_run_is_diagnosed_and_mended(page: Page, service: RunningService) -> None:
    """From what needs attention to the run that failed, to the records that did not fit, to the definition, and back to nothing wrong."""
    with serving(Changing(list(RECORDS))) as source:
        service.client.secrets.set("test_token", SECRET)
        service.client.definitions.apply(
            {"basket.yaml": basket_text(source.url, table="cast: {id: date}", feed="max_rejects: 1")}
        )
        service.client.feeds.run("test", wait_seconds=30)
        page.goto(service.sign_in)
        page.get_by_role("list", name="Needs attention").get_by_role("link", name=re.compile("test.*failed")).click()
        expect(page.get_by_role("alert")).to_contain_text("run.too_many_rejects")
        page.get_by_role("link", name="test", exact=True).click()
        page.get_by_role("tab", name=re.compile("Rejects")).click()
        expect(page.get_by_role("grid", name="Rejects")).to_contain_text("id")
        page.get_by_role("button", name="Change", exact=True).click()
        expect(page.get_by_role("heading", name="Change a feed")).to_be_visible()
        text = page.get_by_label("Definitions as YAML")
        assert "cast: {id: date}" in text.input_value()  # as it was written
        text.fill(text.input_value().replace("cast: {id: date}", ""))
        page.keyboard.press("Alt+y")
        page.get_by_role("link", name="Plan and create").click()
        page.get_by_role("button", name="Save and run").click()
        expect(page.get_by_role("status", name="Outcome succeeded, 1 of 1 tables done")).to_be_visible(timeout=60000)
        page.goto(f"{service.url}/rejects")
        page.get_by_role("button", name="Replay them").click()
        expect(page.get_by_role("status", name=re.compile("Outcome succeeded"))).to_be_visible(timeout=60000)
        page.get_by_role("link", name="Home").click()
        expect(page.get_by_text("Nothing: no feed failed")).to_be_visible()
        page.goto(f"{service.url}/feeds/test?tab=rewind")
        expect(page.get_by_role("button", name="Rewind", exact=True)).to_be_disabled()
        page.get_by_role("button", name="Dry run").click()
        expect(page.get_by_text(re.compile("From the beginning on, the next run would read 300 records"))).to_be_visible()
        page.get_by_role("button", name="Rewind", exact=True).click()
        expect(page.get_by_text("the next run reads on from there")).to_be_visible()
    assert service.client.feeds.get("test")["version"] == 2 and len(table_rows(service.warehouses, "things")) == 300
