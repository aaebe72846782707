"""serve, demo, sign-in."""

from __future__ import annotations

import argparse
from pathlib import Path

from ..client import find_client
from ..client.errors import ServiceUnreachable
from . import show


def serve(options: argparse.Namespace) -> int:
    # The service's own imports take half a second; no other command pays for them.
    from ..service.serve import Service, quiet_logs, stop_on_signals
    from ..service.settings import from_environment

    quiet_logs()
    service = Service(from_environment(vars(options)))
    service.start()
    stop_on_signals(service)
    for step in service.upgraded:
        print(f"Upgraded the data folder: {step}")
    for run in service.taken_up:
        print(f"Run {run} was interrupted; taken up from its last committed cursor")
    print(f"Reed Basket at {service.url}, data in {service.settings.data}")
    print(f"Console (this link signs in once): {service.sign_in_url()}", flush=True)
    service.serve()
    return 0


def demo(options: argparse.Namespace) -> int:
    from ..demo.start import run_demo

    return run_demo(Path(options.data).absolute(), options.port, lambda text: print(text, flush=True))


def happen(options: argparse.Namespace) -> int:
    import json

    import urllib3

    address = Path(options.data) / "harbour.url"
    if not address.exists():
        raise ServiceUnreachable(f"no demo's harbour in {options.data}; start it with `reed demo`")
    base = address.read_text().strip() + "/happen"
    try:
        if options.thing is None:
            answer = urllib3.request("GET", base, retries=False)
        else:
            answer = urllib3.request("POST", f"{base}/{options.thing}", retries=False)
    except urllib3.exceptions.HTTPError as error:
        raise ServiceUnreachable(f"no harbour answers at {base}; start it with `reed demo`") from error
    body = json.loads(answer.data)
    print(body.get("happened") or body.get("error") or "\n".join(body["things"]))
    return 0 if answer.status == 200 else 4


def sign_in(options: argparse.Namespace) -> int:
    made = find_client(options.url, options.token).sign_in_code()
    if options.json:
        return show.as_json(made)
    print(f"Good once, within the hour: {made['url']}")
    return 0
