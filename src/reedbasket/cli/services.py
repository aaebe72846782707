"""serve, demo, sign-in, backup, restore."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from ..client import connect
from ..client.errors import ServiceUnreachable
from . import show


def serve(options: argparse.Namespace) -> int:
    """`reed serve`, until it is stopped."""
    # The service's own imports take half a second; no other command pays for them.
    from ..service.serve import Service, quiet_logs, stop_on_signals
    from ..service.settings import from_environment

    settings = from_environment(vars(options))
    quiet_logs(settings.log_format)
    service = Service(settings)
    service.start()
    stop_on_signals(service)
    for step in service.upgraded:
        print(f"Upgraded the data folder: {step}")
    for run in service.taken_up:
        print(f"Run {run} was interrupted; continued from its last committed cursor")
    print(f"Reed Basket at {service.url}, data in {service.settings.data}")
    print(f"Console (this link signs in once): {service.sign_in_url()}", flush=True)
    service.serve()
    return 0


def backup(options: argparse.Namespace) -> int:
    """`reed backup`."""
    from ..service import backup as copies
    from ..service.settings import default_data_folder

    folder = Path(options.data) if options.data else default_data_folder()
    names = copies.write(folder, Path(options.file), with_key=not options.without_key)
    print(f"Wrote {options.file}: {', '.join(names)}. Warehouse files are not included.")
    return 0


def restore(options: argparse.Namespace) -> int:
    """`reed restore`."""
    from ..service import backup as copies

    names = copies.restore(Path(options.file), Path(options.data))
    print(f"Restored {', '.join(names)} into {options.data}; start it with `reed serve --data {options.data}`.")
    return 0


def demo(options: argparse.Namespace) -> int:
    """`reed demo`, until it is stopped."""
    try:
        from ..demo import post  # noqa: F401 - its mail server wants a package
        from ..demo.start import run_demo
    except ModuleNotFoundError as error:
        print(
            f"reed: the demo needs the package {error.name}; pip install 'reedbasket[demo]'  [driver.missing]", file=sys.stderr
        )
        return 1
    return run_demo(
        Path(options.data or "reed-data").absolute(),
        options.port,
        lambda text: print(text, flush=True),
        postgres=options.postgres,
        mysql=options.mysql,
    )


def happen(options: argparse.Namespace) -> int:
    """`reed demo event`: make the demo's stand-ins do something, wherever the demo's data is (`--data`, REED_DATA)."""
    import json
    import os

    import urllib3

    folder = options.data or os.environ.get("REED_DATA") or "reed-data"
    address = Path(folder) / "standins.json"
    if not address.exists():
        raise ServiceUnreachable(f"no demo's stand-ins in {folder}; start it with `reed demo`")
    urls = json.loads(address.read_text())
    try:
        known = {
            name: json.loads(urllib3.request("GET", f"{url}/happen", retries=False).data)["things"]
            for name, url in urls.items()
        }
        if options.thing is None:
            print("\n".join(f"{thing:<18} at {name}" for name, things in known.items() for thing in things))
            return 0
        place = next((url for name, url in urls.items() if options.thing in known[name]), None)
        if place is None:
            print(f"there is no such event; there are {', '.join(t for things in known.values() for t in things)}")
            return 4
        answer = urllib3.request("POST", f"{place}/happen/{options.thing}", retries=False)
    except urllib3.exceptions.HTTPError as error:
        raise ServiceUnreachable("the demo's stand-ins do not answer; start them with `reed demo`") from error
    print(json.loads(answer.data)["happened"])
    return 0


def sign_in(options: argparse.Namespace) -> int:
    """`reed sign-in`: a link into the console."""
    made = connect(options.url, options.token).sign_in_code()
    if options.json:
        return show.as_json(made)
    print(f"Works once, within an hour: {made['url']}")
    return 0
