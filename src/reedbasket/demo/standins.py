"""The outside world of the demo: the harbour, the partner's passes and the tides, each on a port of its own, in one process; the
dock, whose database is a file, or a PostgreSQL of its own, and the turnstiles, whose files are a folder: their ports are for the
demo's switch alone. The depot is on an S3-compatible server, where the package for that is installed.

`python -m reedbasket.demo.standins` reads its secrets as a JSON object from the first line of its input, and prints the addresses
as the first line: {"harbour": "http://…", "passes": …, "tides": …, "dock": …}.
Mail that `mail` takes is shown at `post`. `dock_file` and `turnstile_folder`
among the secrets say where the dock's file and the turnstiles' are made; where `marsh_password` is among them, the dock is on
PostgreSQL instead, at `dock_postgres`; where `marsh_maria_password` is, the marsh is on a MariaDB, at `marsh_maria`. It ends when its
input does.
"""

from __future__ import annotations

import json
import os
import signal
import sys
import threading
from pathlib import Path
from typing import TYPE_CHECKING

from flask import Flask
from waitress.server import create_server

from .dock import happenings as dock_happenings
from .dock import make_dock
from .dock_postgres import DockServer
from .dock_postgres import happenings as postgres_happenings
from .ferries import story_now
from .harbour import create_harbour
from .passes import create_passes
from .post import serve_post
from .serving import add_switch
from .tides import create_tides
from .turnstile import happenings as turnstile_happenings
from .turnstile import make_turnstile, serve_depot

if TYPE_CHECKING:
    from .marsh_mariadb import MarshServer

# What ends with us.
_servers: list[DockServer | MarshServer] = []


def main() -> None:
    """Serve all stand-ins, until the demo ends."""
    secrets = json.loads(sys.stdin.readline())
    now = story_now()
    harbour, happens = create_harbour(secrets["harbour_token"], now)
    add_switch(harbour, happens)
    passes, more = create_passes(secrets["passes_client"], secrets["passes_secret"], now)
    add_switch(passes, more)
    tides = create_tides(secrets["tides_key"])
    add_switch(tides, {})
    dock = Flask("dock")
    signal.signal(signal.SIGTERM, lambda *_: _end())
    server = _dock_server(secrets) if "marsh_password" in secrets else None
    marsh = _marsh_server(secrets) if "marsh_maria_password" in secrets else None
    if server is None:
        dock_file = Path(secrets["dock_file"])
        make_dock(dock_file, now)
        add_switch(dock, dock_happenings(dock_file))
    else:
        add_switch(dock, postgres_happenings(server))
    turnstile, folder = Flask("turnstile"), Path(secrets["turnstile_folder"])
    make_turnstile(folder, now)
    add_switch(turnstile, turnstile_happenings(folder))
    post, mail_server, _ = serve_post()
    add_switch(post, {})
    apps = {"harbour": harbour, "passes": passes, "tides": tides, "dock": dock, "turnstile": turnstile, "post": post}
    addresses = {name: _serve(app) for name, app in apps.items()}
    addresses["mail"] = f"smtp://{mail_server}"
    depot = serve_depot(folder / "depot")
    if depot is not None:
        addresses["depot"] = depot
    if server is not None:
        addresses["dock_postgres"] = f"postgresql://127.0.0.1:{server.port}"
    if marsh is not None:
        addresses["marsh_maria"] = f"mysql://127.0.0.1:{marsh.port}"
    print(json.dumps(addresses), flush=True)
    # The demo holds our input open; however it ends, so do we.
    sys.stdin.read()
    _end()


def _dock_server(secrets: dict[str, str]) -> DockServer:
    server = DockServer({"dock_reader": secrets["dock_password"], "marsh_loader": secrets["marsh_password"]})
    _servers.append(server)
    return server


def _marsh_server(secrets: dict[str, str]) -> MarshServer:
    from .marsh_mariadb import MarshServer  # its driver is not the demo's

    server = MarshServer(secrets["marsh_maria_password"])
    _servers.append(server)
    return server


def _end() -> None:
    for server in _servers:
        server.stop()
    os._exit(0)


def _serve(app: Flask) -> str:
    server = create_server(app, host="127.0.0.1", port=0, threads=4, ident=None)
    threading.Thread(target=server.run, daemon=True).start()
    return f"http://127.0.0.1:{server.effective_port}"


if __name__ == "__main__":
    main()
