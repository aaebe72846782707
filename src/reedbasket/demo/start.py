"""`reed demo`: the stand-in, the service on a fresh data folder, the basket applied, the feed run once, and what to try."""

from __future__ import annotations

import secrets
import shutil
import signal
import subprocess
import sys
import threading
from collections.abc import Callable
from importlib.resources import files
from pathlib import Path

from ..client import Client
from ..core.errors import ReedError
from ..service.serve import Service, quiet_logs, stop_on_signals
from ..service.settings import Settings

# Written into a demo's data folder: only a folder that holds it is ever cleared.
MARK = "this-is-a-demo"
HARBOUR_FILE = "harbour.url"


class DemoError(ReedError):
    code = "demo.cannot_start"


def run_demo(folder: Path, port: int, say: Callable[[str], None]) -> int:
    """Blocks until Ctrl-C. Returns the exit code of the first run: 0, or 1 where it failed."""
    quiet_logs()
    fresh_folder(folder)
    token = secrets.token_urlsafe(18)
    harbour = start_harbour(token)
    service = Service(Settings(data=folder, port=port))
    try:
        service.start()
        # The harbour makes its records meanwhile.
        url = address_of(harbour)
        (folder / HARBOUR_FILE).write_text(url + "\n")
        stop_on_signals(service)
        client = Client(service.url, service.token)
        failed = threading.Event()

        def guide() -> None:
            if not _first_run(client, service, url, token, say):
                failed.set()

        threading.Thread(target=guide, name="guide", daemon=True).start()
        service.serve()
        say("\nStopped: the service, its workers and the harbour.")
        return 1 if failed.is_set() else 0
    finally:
        stop_harbour(harbour)


def fresh_folder(folder: Path) -> None:
    """An empty data folder. Raises DemoError rather than clear one that no demo made, or that is in use."""
    if folder.exists() and any(folder.iterdir()):
        if not (folder / MARK).exists():
            raise DemoError(
                "starting the demo in", str(folder), found="a folder that no demo made", mend="name another with --data"
            )
        if (folder / "service.json").exists() and _answers(folder):
            raise DemoError(
                "starting the demo in", str(folder), found="a demo that is running", mend="end that one with Ctrl-C"
            )
        shutil.rmtree(folder)
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    (folder / MARK).touch()


def _answers(folder: Path) -> bool:
    import fcntl

    with open(folder / "service.lock", "a") as handle:
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            return True
    return False


def start_harbour(token: str) -> subprocess.Popen[str]:
    """The stand-in in a process of its own."""
    return subprocess.Popen(
        [sys.executable, "-m", "reedbasket.demo.harbour", "--token", token],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
        start_new_session=True,
    )


def address_of(process: subprocess.Popen[str]) -> str:
    """What the stand-in says first. Raises DemoError."""
    assert process.stdout is not None
    url = process.stdout.readline().strip()
    if not url:
        raise DemoError("starting the harbour stand-in", found="it ended at once", mend="see its output above")
    return url


def stop_harbour(process: subprocess.Popen[str]) -> None:
    process.send_signal(signal.SIGTERM)
    try:
        process.wait(3)
    except subprocess.TimeoutExpired:
        process.kill()
        process.wait()


def basket_texts(url: str) -> dict[str, str]:
    """The demo's basket, with the source at the stand-in's address."""
    folder = files("reedbasket.demo").joinpath("basket")
    texts = {f"basket/{f.name}": f.read_text("utf-8") for f in folder.iterdir() if f.name.endswith(".yaml")}
    texts["basket/source.yaml"] = (
        f"source: harbour\nconnector: harbour-api\nsettings:\n  url: {url}\n  token: {{secret: harbour_token}}\n"
    )
    return texts


def _first_run(client: Client, service: Service, url: str, token: str, say: Callable[[str], None]) -> bool:
    say(f"Harbour stand-in at {url}; service at {service.url}, data in {service.settings.data}")
    client.set_secret("harbour_token", token)
    applied = client.apply(basket_texts(url))
    say(f"Applied the basket: {', '.join(a['kind'] + ' ' + a['name'] for a in applied)}")
    run = client.ask_run("harbour", wait_seconds=55)
    seconds = sum(t["seconds"] for t in run["tables"])
    say(f"Run {run['id']} of harbour {run['outcome']}: {run['totals']['read']:,} records read in {seconds:.1f} s")
    reed = Path(sys.argv[0]).name
    prefix = f"{Path(sys.argv[0]).parent}/" if "/" in sys.argv[0] else ""
    say(
        f"""
Console (this link signs in once):
  {service.sign_in_url()}

Try next, in another terminal:
  {prefix}{reed} feeds                        how every feed stands
  {prefix}{reed} run harbour                  again: nothing changed, so nothing is read
  {prefix}{reed} demo happen bookings_added   two bookings come in at the harbour
  {prefix}{reed} demo happen sailing_delayed  a sailing is delayed
  {prefix}{reed} run harbour                  exactly these three
  {prefix}{reed} ledger harbour               a line per load
  {prefix}{reed} run harbour-analysis         the same source into DuckDB: mirrored, with history, columns worked on
  {prefix}{reed} verify harbour --deep        the source once more, compared with the warehouse
  {prefix}{reed} sql marsh "select status, count(*) from sailings group by status"

Ctrl-C stops everything."""
    )
    return run["outcome"] == "succeeded"
