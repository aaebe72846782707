"""`reed demo`: the stand-ins, the service on a fresh data folder, the basket applied, the feed run once, and what to try."""

from __future__ import annotations

import json
import secrets
import shutil
import signal
import subprocess
import sys
import threading
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from importlib.resources import files
from pathlib import Path

from ..client import Client
from ..core.allowed_paths import FILES
from ..core.errors import ReedError
from ..service.serve import Service, quiet_logs, stop_on_signals
from ..service.settings import Settings
from .turnstile import BUCKET

# Written into a demo's data folder: only a folder that holds it is ever cleared.
MARK = "this-is-a-demo"
STANDINS_FILE = "standins.json"
DOCK_FILE = "dock.db"
TURNSTILE_FOLDER = "turnstile"


class DemoError(ReedError):
    """The demo cannot start."""

    code = "demo.cannot_start"


def run_demo(folder: Path, port: int, say: Callable[[str], None], *, postgres: bool = False, mysql: bool = False) -> int:
    """Run the demo until Ctrl-C. Returns the exit code of the first run: 0, or 1 if it failed.

    Args:
        postgres: the dock is on a private PostgreSQL, and its feed loads into it too.
        mysql: the warehouse `marsh` is on a private MariaDB.
    """
    quiet_logs()
    fresh_folder(folder)
    (folder / FILES).mkdir(parents=True)
    known = made_secrets(postgres=postgres, mysql=mysql) | {
        "dock_file": str((folder / FILES / DOCK_FILE).absolute()),
        "turnstile_folder": str((folder / FILES / TURNSTILE_FOLDER).absolute()),
    }
    standins = start_standins(known)
    try:
        urls = addresses_of(standins)
        settings = Settings(
            data=folder,
            port=port,
            mail_server=urls["mail"].removeprefix("smtp://"),
            mail_tls="none",
            mail_from="reed-basket@sedge.example",
            mail_to="data@sedge.example",
        )
        service = Service(settings)
        service.start()
        switches = {name: url for name, url in urls.items() if url.startswith("http")}
        (folder / STANDINS_FILE).write_text(json.dumps(switches) + "\n")
        stop_on_signals(service)
        client = Client(service.url, service.token)
        failed = threading.Event()

        def guide() -> None:
            if not _first_run(client, service, urls, known, say):
                failed.set()

        threading.Thread(target=guide, name="guide", daemon=True).start()
        service.serve()
        say("\nStopped: the service, its workers and the stand-ins.")
        return 1 if failed.is_set() else 0
    finally:
        stop_standins(standins)


def fresh_folder(folder: Path) -> None:
    """An empty data folder.

    Raises:
        DemoError: there is a folder that no demo made, or that is in use.
    """
    if folder.exists() and any(folder.iterdir()):
        if not (folder / MARK).exists():
            raise DemoError(
                "starting the demo in",
                str(folder),
                found="a folder that was not made by a demo",
                fix="choose another with --data",
            )
        if (folder / "service.json").exists() and _answers(folder):
            raise DemoError(
                "starting the demo in", str(folder), found="a demo that is running", fix="stop that one with Ctrl-C"
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


def start_standins(secrets_of_demo: dict[str, str]) -> subprocess.Popen[str]:
    """Start the outside world, in a process of its own."""
    process = subprocess.Popen(
        [sys.executable, "-m", "reedbasket.demo.standins"],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
        start_new_session=True,
    )
    assert process.stdin is not None
    process.stdin.write(json.dumps(secrets_of_demo) + "\n")
    process.stdin.flush()
    return process


def addresses_of(process: subprocess.Popen[str]) -> dict[str, str]:
    """{stand-in: its URL}, which the process prints first.

    Raises:
        DemoError: it ended.
    """
    assert process.stdout is not None
    line = process.stdout.readline().strip()
    if not line:
        raise DemoError("starting the stand-ins", found="they ended at once", fix="see their output above")
    found: dict[str, str] = json.loads(line)
    return found


def stop_standins(process: subprocess.Popen[str]) -> None:
    """End the process, by force if it takes too long."""
    process.send_signal(signal.SIGTERM)
    try:
        process.wait(3)
    except subprocess.TimeoutExpired:
        process.kill()
        process.wait()


def made_secrets(*, postgres: bool = False, mysql: bool = False) -> dict[str, str]:
    """{name: value}, new ones for every demo."""
    names = [
        "harbour_token",
        "passes_secret",
        "tides_key",
        "depot_key",
        *(("dock_password", "marsh_password") if postgres else ()),
        *(("marsh_maria_password",) if mysql else ()),
    ]
    made = {name: secrets.token_urlsafe(18) for name in names}
    return {**made, "passes_client": "sedge-ferries"}


def basket_texts(urls: dict[str, str]) -> dict[str, str]:
    """The demo's basket, with the sources at the stand-ins' addresses; the tides are those of the last 30 days."""
    folder = files("reedbasket.demo").joinpath("basket")
    texts = {f"basket/{f.name}": f.read_text("utf-8") for f in folder.iterdir() if f.name.endswith(".yaml")}
    now = datetime.now(UTC)
    since, half_a_day = (now - timedelta(days=30)).date().isoformat(), f"{now - timedelta(hours=12):%Y-%m-%dT%H:%M:%SZ}"
    texts["basket/days.yaml"] = texts["basket/days.yaml"].replace("SINCE", since)
    texts["basket/sources.yaml"] = f"""source: harbour
connector: harbour-api
settings: {{url: "{urls["harbour"]}", token: {{secret: harbour_token}}, boarding_since: {half_a_day}}}
---
source: passes
connector: passes-api
settings: {{url: "{urls["passes"]}", client_id: sedge-ferries, client_secret: {{secret: passes_secret}}}}
---
source: tides
connector: tides-api
settings: {{url: "{urls["tides"]}", key: {{secret: tides_key}}, since: {since}}}
"""
    depot = f"path: {TURNSTILE_FOLDER}/depot"
    if "depot" in urls:
        endpoint = urls["depot"].replace("s3://", "http://")
        depot = f"url: s3://{BUCKET}\nendpoint: {endpoint}\nuser: depot\npassword: {{secret: depot_key}}"
    texts["basket/sources.yaml"] += f"""---
source: turnstile
description: the folder that the landings write into
type: files
path: {TURNSTILE_FOLDER}
---
source: depot
description: the depot's files
type: files
{depot}
"""
    if "marsh_maria" in urls:
        text = files("reedbasket.demo").joinpath("basket_mysql/marsh.yaml").read_text("utf-8")
        _, _, others = texts["basket/marsh.yaml"].partition("---\n")
        texts["basket/marsh.yaml"] = f"{text.format(port=urls['marsh_maria'].rpartition(':')[2])}---\n{others}"
    if "dock_postgres" in urls:
        text = files("reedbasket.demo").joinpath("basket_postgres/dock.yaml").read_text("utf-8")
        texts["basket/dock.yaml"] = text.format(port=urls["dock_postgres"].rpartition(":")[2])
    else:
        texts["basket/sources.yaml"] += f"""---
source: dock
description: the workshop's database, a file
type: sqlite
path: {DOCK_FILE}
"""
    return texts


def _first_run(
    client: Client, service: Service, urls: dict[str, str], known: dict[str, str], say: Callable[[str], None]
) -> bool:
    say(f"Stand-ins: {', '.join(f'{name} at {url}' for name, url in urls.items())}")
    say(f"Service at {service.url}, data in {service.settings.data}")
    for name in (name for name in known if name not in ("passes_client", "dock_file", "turnstile_folder")):
        client.secrets.set(name, known[name])
    texts = basket_texts(urls)
    # What runs by itself begins when the first runs have been seen.
    days = {name: texts.pop(name) for name in ("basket/days.yaml",)}
    applied = client.definitions.apply(texts)
    say(f"Applied the basket: {', '.join(a['kind'] + ' ' + a['name'] for a in applied)}")
    run = client.feeds.run("harbour", wait_seconds=55)
    seconds = sum(t["seconds"] for t in run["tables"])
    say(f"Run {run['id']} of harbour {run['outcome']}: {run['totals']['read']:,} records read in {seconds:.1f} s")
    others = [client.feeds.run(feed) for feed in ("dock", "turnstiles", "depot", "tides", "passes")]
    by_themselves = [one["name"] for one in client.definitions.apply(days)]
    begun = ", ".join(f"{other['feed']} (run {other['id']})" for other in others)
    say(f"Started: {begun}, as fast as their sources allow")
    say(f"By their schedules: {', '.join(by_themselves)}")
    reed = Path(sys.argv[0]).name
    prefix = f"{Path(sys.argv[0]).parent}/" if "/" in sys.argv[0] else ""
    since, until = ((datetime.now(UTC) - timedelta(days=days)).date().isoformat() for days in (8, 5))
    say(
        f"""
Console (this link signs in once):
  {service.sign_in_url()}

Try next, in another terminal:
  {prefix}{reed} feeds                        the state of every feed
  {prefix}{reed} run harbour                  again: nothing has changed, so nothing is read
  {prefix}{reed} demo event bookings_added   two bookings come in at the harbour
  {prefix}{reed} demo event sailing_delayed  a sailing is delayed
  {prefix}{reed} run harbour                  exactly these three
  {prefix}{reed} ledger harbour               a line for each load
  {prefix}{reed} run harbour-analysis         the same source into DuckDB: mirrored, with versions, columns transformed
  {prefix}{reed} run boardings                one request for each sailing of the last day, several at once
  {prefix}{reed} check passes                 a partner with tokens and a rate limit, step by step
  {prefix}{reed} preview tides levels --wire     the request for a report and its answer
  {prefix}{reed} survey dock                  the workshop's database, and how changes to its tables can be found
  {prefix}{reed} demo event work_order_done  a work order is done
  {prefix}{reed} run dock                     exactly that one
  {prefix}{reed} preview turnstile 'prices/*.csv'   how a file is written, and what it contains
  {prefix}{reed} demo event file_arrives     a landing's counts for another hour arrive
  {prefix}{reed} run turnstiles               exactly that file, once it no longer changes
  {prefix}{reed} files turnstiles             which files are in the tables
  {prefix}{reed} windows tide-days              a run for each day, and the state of each
  {prefix}{reed} backfill tides --from {since} --until {until} --length 1d
                                    three days again, without moving the feed's own cursor
  {prefix}{reed} demo event partner_down       the partner is down for a minute: `{reed} run passes`, and read {urls["post"]}
  {prefix}{reed} verify harbour --deep        the source again, compared with the warehouse
  {prefix}{reed} sql marsh "select status, count(*) from sailings group by status"

Ctrl-C stops everything."""
    )
    return run.outcome == "succeeded"
