"""`make shots`: the pictures of docs/screenshots, taken anew from a demo of their own.

Wants Debian's chromium, xvfb, xterm and imagemagick. Terminals are real ones, in a window on a virtual screen.
"""

from __future__ import annotations

import json
import os
import shlex
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

from reedbasket.client import Client, connect
from reedbasket.demo.start import basket_texts

ROOT = Path(__file__).parents[1]
TARGET = ROOT / "docs" / "screenshots"
ARGUMENTS = """--no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking
    --disable-component-update --disable-sync"""


def main() -> None:
    TARGET.mkdir(exist_ok=True)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name) / "reed-data"
        os.environ["REED_DATA"] = str(folder)
        demo = subprocess.Popen(
            [sys.executable, "-m", "reedbasket.cli.main", "demo", "--data", str(folder), "--port", "8640"],
            stdout=subprocess.PIPE,
            text=True,
        )
        assert demo.stdout is not None
        for line in demo.stdout:
            if "Ctrl-C stops" in line:
                break
        try:
            client = connect()
            terminal_pictures(folder)
            pages(client, folder)
            slow_pictures(client, folder)
        finally:
            demo.send_signal(signal.SIGINT)
            demo.wait(20)


def reed(*arguments: str) -> None:
    subprocess.run([sys.executable, "-m", "reedbasket.cli.main", *arguments], check=False)


def pages(client: Client, folder: Path) -> None:
    terminal(
        "terminal-look",
        [
            "reed check passes",
            "reed survey passes pass_uses",
            "reed preview turnstile 'prices/*.csv' --rows 4",
            "reed files turnstiles --limit 5",
        ],
    )
    place = shlex.quote(str(folder.parent))
    terminal(
        "terminal-connector",
        [
            f"reed connector new boats --like odata --folder {place}/boats",
            f"reed connector check {place}/boats --replay",
            f"reed extract write harbour {place}/out",
        ],
        shown={f"{place}/": ""},
    )
    client.feeds.run("harbour-analysis", wait_seconds=50)
    for thing in ("odd_record", "vessel_inspected", "vessel_sold", "sailing_delayed"):
        reed("demo", "--data", str(folder), "event", thing)
    terminal("terminal-verify", ["reed verify harbour --deep", "reed check marsh_duck", "reed profile marsh_duck hb_vessels"])
    client.feeds.run("harbour-analysis", wait_seconds=50)
    client.feeds.run("harbour", wait_seconds=50)
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=ARGUMENTS.split())
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(client.url + "/sign-in")
        page.goto(client.sign_in_code()["url"])
        page.get_by_text("Needs attention").wait_for()
        visit(page, client, "/feeds", "feeds")
        visit(page, client, "/runs/1", "run")
        visit(page, client, "/feeds/harbour", "ledger", tab="Ledger")
        visit(page, client, "/runs/1", "steps", tab="Steps")
        visit(page, client, "/warehouses/marsh/bookings", "rows")
        reed("demo", "--data", str(folder), "event", "file_damaged")
        time.sleep(6)  # until it has been still for long enough
        client.feeds.run("turnstiles", wait_seconds=50)
        page.goto(client.url + "/warehouses/marsh?tab=sql")
        statement = (
            "select status, count(*) as sailings, round(avg(delay_minutes), 1) as minutes_late from sailings group by status"
        )
        page.get_by_label("SQL statement").fill(statement)
        page.get_by_role("button", name="Ask").click()
        keep(page, "warehouse")
        page.goto(client.url + "/sources")
        keep(page, "sources")
        page.goto(client.url + "/schedules")
        keep(page, "schedules")
        visit(page, client, "/map", "map")
        making(page, client, json.loads((folder / "standins.json").read_text())["harbour"])
        reed("demo", "--data", str(folder), "event", "busy")
        busy = client.feeds.run("harbour", wait_seconds=50)["id"]
        page.goto(f"{client.url}/runs/{busy}")
        page.get_by_role("tab", name="Requests").click()
        page.get_by_role("button", name="Dark colours").click()
        keep(page, "run-dark")
        browser.close()


def making(page: Page, client: Client, harbour: str) -> None:
    """A feed half made, and an API that is being tried."""
    page.goto(client.url + "/new")
    page.get_by_role("button", name="dock", exact=False).first.click()
    page.get_by_role("button", name="Next: tables").click()
    page.get_by_role("button", name="Show tables").click()
    page.get_by_label("Select work_orders").check(timeout=60_000)
    page.get_by_label("Select parts").check()
    page.get_by_role("button", name="work_orders").click()
    page.get_by_role("button", name="Show some records").click()
    page.get_by_role("grid", name="Records of work_orders").wait_for()
    keep(page, "new-feed")
    page.goto(client.url + "/workbench")
    page.get_by_label("Connector").fill("quay-api")
    page.get_by_label("Address").fill(harbour + "/v1")
    page.get_by_label("Authentication").select_option("bearer token")
    page.get_by_label("Token, as the secret").fill("harbour_token")
    page.get_by_label("Table", exact=True).fill("sailings")
    page.get_by_label("Path", exact=True).fill("/sailings")
    page.get_by_role("button", name="Fetch a page").click()
    page.get_by_role("button", name="use as records").click(timeout=60_000)
    page.get_by_role("button", name="Fetch a page").click()
    page.get_by_role("button", name="by: page_token, at: meta.next, param: after").click()
    page.get_by_role("button", name="sailing_id").click()
    page.get_by_role("button", name="Fetch three pages").click()
    page.get_by_text("3 pages: 100, 100, 100 records").wait_for()
    keep(page, "workbench")


def visit(page: Page, client: Client, path: str, name: str, tab: str | None = None) -> None:
    page.goto(client.url + path)
    if tab:
        page.get_by_role("tab", name=tab).click()
    keep(page, name)


def keep(page: Page, name: str) -> None:
    page.wait_for_load_state("load")
    page.wait_for_timeout(1500)
    page.screenshot(path=str(TARGET / f"{name}.png"))


def terminal_pictures(folder: Path) -> None:
    data = shlex.quote(str(folder))
    happen = f"reed demo --data {data} event"
    terminal(
        "terminal-run",
        ["reed run harbour", f"{happen} bookings_added", f"{happen} sailing_delayed", "reed run harbour", "reed ledger harbour --limit 6",
         "reed rows marsh sailings --limit 3"],
        shown={f"{happen} ": "reed demo event "},
    )  # fmt: skip


def slow_pictures(client: Client, folder: Path) -> None:
    # The same feed once more beside the first, at a pace at which a picture can be taken on the way.
    texts = basket_texts(json.loads((folder / "standins.json").read_text()))
    slow = (
        texts["basket/harbour.yaml"]
        .replace("per_second: 200", "per_second: 7")
        .replace("feed: harbour\n", "feed: harbour-slow\ntable_prefix: slow_\n")
    )
    client.definitions.apply({"basket/slow.yaml": slow})
    terminal("terminal-plan", ["reed plan harbour-slow"])
    run = client.feeds.run("harbour-slow")["id"]
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=ARGUMENTS.split())
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(client.sign_in_code()["url"])
        page.get_by_text("Needs attention").wait_for()
        visit(page, client, "/?hours=6", "home")
        browser.close()
    terminal("terminal-watch", [f"reed watch {run}"], seconds=8)
    client.definitions.apply({"basket/harbour.yaml": texts["basket/harbour.yaml"]})
    client.runs.get(run, wait_seconds=50)


def terminal(name: str, commands: list[str], shown: dict[str, str] | None = None, seconds: float | None = None) -> None:
    """Run commands in an xterm on a virtual screen, and take its picture when they have ended.

    Args:
        shown: {what stands in a command: what the picture shows}.
        seconds: take it after so many, for a command that does not end.
    """
    script = ""
    for command in commands:
        said = command
        for long, short in (shown or {}).items():
            said = said.replace(long, short)
        actual = command.replace("reed ", f"{sys.executable} -m reedbasket.cli.main ", 1)
        script += f"printf '\\033[32m$\\033[0m %s\\n' {shlex.quote(said)}; {actual}; echo; "
    screen = subprocess.Popen(["Xvfb", ":97", "-screen", "0", "1280x800x24"], stderr=subprocess.DEVNULL)
    environment = {**os.environ, "DISPLAY": ":97"}
    ended = Path(tempfile.mkdtemp()) / "ended"
    try:
        time.sleep(1)
        window = subprocess.Popen(
            ["xterm", "-geometry", "158x47+0+0", "-fa", "DejaVu Sans Mono", "-fs", "10", "-bg", "#f3f5f4", "-fg", "#1d2522", "-b", "8",
             "-e", "bash", "-c", f"{script}touch {ended}; sleep 60"],
            env=environment,
        )  # fmt: skip
        until = time.monotonic() + (seconds or 180)
        while not ended.exists() and time.monotonic() < until:
            time.sleep(0.2)
        time.sleep(1)  # until it is drawn
        subprocess.run(["import", "-window", "root", str(TARGET / f"{name}.png")], env=environment, check=True)
        window.kill()
        window.wait()
    finally:
        screen.terminate()
        screen.wait()


if __name__ == "__main__":
    main()
