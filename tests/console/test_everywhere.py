"""What holds on every page: axe finds nothing, in both colours and on a telephone; below a path; nothing from outside is let in."""

from __future__ import annotations

import json
import re
from pathlib import Path

from playwright.sync_api import Page, expect

from tests.conftest import RunningService
from tests.console.test_console import RECORDS, prepare
from tests.support.source import Changing, serving

AXE = (Path(__file__).parents[2] / "console/node_modules/axe-core/axe.min.js").read_text()
PAGES = [
    "/", "/feeds", "/feeds/test", "/feeds/test?tab=schedule", "/feeds/test?tab=plan", "/feeds/test?tab=versions",
    "/feeds/test?tab=rewind", "/runs", "/runs/1", "/schedules", "/rejects", "/sources", "/sources/test", "/map", "/map?as=list",
    "/new", "/new?step=feed", "/new?yaml=1", "/workbench",
    "/warehouses/marsh", "/warehouses/marsh?tab=sql", "/warehouses/marsh/things", "/settings",
]  # fmt: skip


def there(page: Page) -> None:
    expect(page.get_by_role("heading", level=1)).to_be_visible()
    expect(page.get_by_role("status").filter(has_text=re.compile("^(Loading|Fetching)"))).to_have_count(0)


def mistakes(page: Page, path: str, **options: object) -> list[str]:
    found = page.evaluate(f"axe.run(document, {json.dumps({'resultTypes': ['violations'], **options})})")["violations"]
    return [f"{path} {one['id']}: {one['help']}: {one['nodes'][0]['html'][:160]}" for one in found]


def test_on_every_page_in_both_colours_and_on_a_telephone(page: Page, service: RunningService) -> None:
    """axe finds nothing, nothing is fetched from elsewhere, and nothing lies beside a narrow page."""
    asked: list[str] = []
    page.on("request", lambda request: asked.append(request.url) if not request.url.startswith(service.url) else None)
    refused: list[str] = []
    page.on("console", lambda message: refused.append(message.text) if "Content Security Policy" in message.text else None)
    wrong: list[str] = []
    with serving(Changing(list(RECORDS))) as source:
        prepare(service, source.url)
        service.client.feeds.run("test", wait_seconds=30)
        page.goto(service.sign_in)
        expect(page.get_by_role("heading", name="Home")).to_be_visible()
        for path in PAGES:
            page.goto(service.url + path)
            there(page)
            page.evaluate(AXE)
            wrong += mistakes(page, path)
            page.emulate_media(color_scheme="dark")
            wrong += mistakes(page, f"{path}, dark", runOnly=["color-contrast"])
            page.emulate_media(color_scheme="light")
            page.set_viewport_size({"width": 390, "height": 844})
            there(page)
            wide = page.evaluate("document.documentElement.scrollWidth")
            wrong += [f"{path}: {wide} pixels wide on a telephone"] if wide > 390 else []
            page.set_viewport_size({"width": 1280, "height": 800})
    assert not wrong, "\n".join(wrong)
    assert not refused
    assert not [url for url in asked if not url.startswith(("data:", "blob:", "about:"))]


def test_below_a_path_and_with_times_in_another_zone(page: Page, tmp_path: Path) -> None:
    service = RunningService(tmp_path / "data", "--public-url", "http://127.0.0.1/reed/")
    try:
        with serving(Changing(list(RECORDS))) as source:
            prepare(service, source.url)
            run = service.client.feeds.run("test", wait_seconds=30)
        code = service.client.sign_in_code()["url"].partition("#")[2]
        page.goto(f"{service.url}/reed/sign-in#{code}")
        expect(page.get_by_role("heading", name="Home")).to_be_visible()
        page.get_by_role("link", name="Runs").click()
        assert page.url == f"{service.url}/reed/runs"
        page.get_by_role("row", name="1", exact=True).click()
        expect(page.get_by_role("status", name=re.compile("Outcome succeeded"))).to_be_visible()
        page.evaluate("localStorage.setItem('reed-zone', 'UTC')")
        page.reload()
        began = str(run["started_at"])[:19].replace("T", " ")
        expect(page.get_by_text(began)).to_be_visible()
        expect(page.get_by_role("button", name="Times in UTC")).to_be_visible()
    finally:
        service.stop()
