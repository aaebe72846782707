"""The sign-in page where people may sign in elsewhere."""

from __future__ import annotations

from pathlib import Path

from playwright.sync_api import Page, expect

from tests.conftest import RunningService
from tests.support.openid import CLIENT, PASSWORD, Provider


def test_people_sign_in_by_their_provider_or_read_why_not(tmp_path: Path, page: Page) -> None:
    provider = Provider()
    options = ("--openid-issuer", provider.url, "--openid-client", CLIENT, "--openid-roles", "data=editor")
    service = RunningService(tmp_path / "data", *options)
    try:
        service.client.secrets.set("openid_client_secret", PASSWORD)
        provider.person["groups"] = ["others"]
        page.goto(f"{service.url}/sign-in")
        page.get_by_role("link", name="Sign in with 127.0.0.1").click()
        expect(page.get_by_role("alert")).to_contain_text("nothing gives you a role here")
        provider.person["groups"] = ["data"]
        page.get_by_role("link", name="Sign in with 127.0.0.1").click()
        expect(page.get_by_text("Nothing is set up yet.")).to_be_visible()
        assert page.url == f"{service.url}/"
    finally:
        service.stop()
        provider.close()
