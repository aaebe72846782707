"""One browser for the console's tests; a page that saw no error of its own."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from playwright.sync_api import Page, expect, sync_playwright

from tests.support.programs import program

ARGUMENTS = """--no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking
    --disable-component-update --disable-sync"""


# What is waited for ends a wait; a busy machine needs its time for it.
expect.set_options(timeout=60_000)


@pytest.fixture(scope="module")
def browser_page() -> Iterator[Page]:
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=program("chromium", "chromium"), args=ARGUMENTS.split())
        made = browser.new_page(viewport={"width": 1280, "height": 800})
        made.set_default_timeout(90_000)
        yield made
        browser.close()


@pytest.fixture
def page(browser_page: Page) -> Iterator[Page]:
    wrong: list[str] = []
    browser_page.on("pageerror", lambda error: wrong.append(str(error)))
    yield browser_page
    browser_page.goto("about:blank")
    browser_page.context.clear_cookies()
    assert not wrong
