"""Starting and stopping the service."""

from __future__ import annotations

import fcntl
import json
import logging
import os
import signal
import sys
import threading
from pathlib import Path
from types import FrameType
from typing import IO

from waitress.server import create_server

from ..core.errors import ReedError
from ..store import Store, access, requests
from .app import create_app
from .parts import Parts
from .settings import Settings
from .workers import Workers

ADDRESS_FILE = "service.json"
_TIDY_SECONDS = 3600.0


class ServiceError(ReedError):
    code = "service.cannot_start"


class Service:
    """A running service in this process. `start` returns once it listens; `serve` blocks until it is told to stop."""

    def __init__(self, settings: Settings) -> None:
        self.settings = settings
        self.store = Store(settings.data)
        self.workers = Workers(self.store, settings.workers)
        self.taken_up: list[int] = []
        self.upgraded: list[str] = []
        self.url = ""
        self._closing = threading.Event()
        self._lock: IO[str] | None = None

    def start(self) -> None:
        """Raises ServiceError, StoreError."""
        self.settings.data.mkdir(parents=True, exist_ok=True, mode=0o700)
        self._lock = _only_one(self.settings.data)
        self.upgraded = self.store.upgrade()
        self.token = access.ensure_local_token(self.store)
        self.parts = Parts(self.store, self.workers, self.settings, "")
        try:
            self._server = create_server(
                create_app(self.parts),
                host=self.settings.host,
                port=self.settings.port,
                threads=self.settings.threads,
                ident=None,
                # A stream of events must leave as it is made.
                send_bytes=1,
                channel_timeout=300,
            )
        except OSError as error:
            raise ServiceError(
                "listening on",
                f"{self.settings.host}:{self.settings.port}",
                found=error.strerror or str(error),
                mend="end what uses the port, or give another with --port",
            ) from error
        host = f"[{self.settings.host}]" if ":" in self.settings.host else self.settings.host
        self.url = self.parts.url = f"http://{host}:{self._server.effective_port}"
        self.taken_up = self.workers.start()
        threading.Thread(target=self._tidy, name="tidy", daemon=True).start()
        address = self.settings.data / ADDRESS_FILE
        address.write_text(json.dumps({"url": self.url, "pid": os.getpid()}) + "\n")

    def _tidy(self) -> None:
        """What is kept for some days goes when they are over. Looked at now and every hour, in a thread of its own."""
        while not self.parts.closing:
            requests.purge(self.store, self.settings.keep_days)
            self._closing.wait(_TIDY_SECONDS)

    def serve(self) -> None:
        try:
            self._server.run()
        finally:
            self._closing.set()
            self.workers.stop()
            (self.settings.data / ADDRESS_FILE).unlink(missing_ok=True)
            self.store.close()

    def sign_in_url(self) -> str:
        """One use, an hour. The code stands behind #, so that it reaches no log."""
        return f"{self.url}/sign-in#{access.make_code(self.store)}"


def _only_one(folder: Path) -> IO[str]:
    handle = open(folder / "service.lock", "w")  # noqa: SIM115  (held as long as the process lives)
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError as error:
        raise ServiceError(
            "starting on the data folder",
            str(folder),
            found="another service uses it",
            mend="stop that one, or give another --data",
            code="service.folder_in_use",
        ) from error
    return handle


def stop_on_signals(service: Service) -> None:
    """Ctrl-C and a polite kill stop the service; a second one ends it at once."""

    def handle(number: int, frame: FrameType | None) -> None:
        signal.signal(number, signal.SIG_DFL)
        service.parts.closing = True
        service.workers.signal.tell()
        raise SystemExit(0)  # waitress ends its accept loop and its threads on this

    signal.signal(signal.SIGINT, handle)
    signal.signal(signal.SIGTERM, handle)


def quiet_logs() -> None:
    logging.basicConfig(stream=sys.stderr, level=logging.WARNING, format="%(asctime)s %(name)s %(levelname)s %(message)s")
