"""A database in the console: a table found among many, what each way misses, its rows, its setup."""

from __future__ import annotations

import sqlite3
from contextlib import closing

from playwright.sync_api import Page, expect

from tests.conftest import RunningService
from tests.service.test_databases import BASKET


def test_a_look_at_a_database_of_many_tables(page: Page, service: RunningService) -> None:
    with closing(sqlite3.connect(service.files / "dock.db")) as db:
        for number in range(40):
            db.execute(f"create table yard_{number} (id integer primary key, seen_at datetime)")
        db.execute("insert into yard_33 values (7, '2026-03-02 06:00:00')")
        db.commit()
    service.client.secrets.set("far_password", "quite a secret")
    service.client.definitions.apply({"basket.yaml": BASKET})
    page.goto(service.sign_in)
    page.get_by_role("link", name="Sources").click()
    page.get_by_role("row", name="dock").click()
    page.get_by_role("button", name="Survey").click()
    page.get_by_role("searchbox", name="Find in tables of the source").fill("33")
    page.get_by_role("option", name="yard_33").click()
    expect(page.get_by_role("grid", name="Ways to find changes of yard_33")).to_contain_text("deletes")
    expect(page.get_by_role("grid", name="Columns of yard_33")).to_contain_text("datetime")
    page.get_by_role("tab", name="Preview").click()
    page.get_by_role("searchbox", name="Find in tables to preview at").fill("33")
    page.get_by_role("option", name="yard_33").click()
    expect(page.get_by_role("grid", name="Records of yard_33")).to_contain_text("2026-03-02")
    page.goto(f"{service.url}/sources/far")
    page.get_by_role("tab", name="Setup SQL").click()
    expect(page.get_by_label("Statements")).to_contain_text('GRANT SELECT ON "public"."orders" TO "reed";')
    page.get_by_role("tab", name="Survey").click()
    page.get_by_role("button", name="Survey").click()
    expect(page.get_by_role("alert")).to_contain_text("source.unreachable")
