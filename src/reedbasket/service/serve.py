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
from typing import IO, Any

from ..core.errors import ReedError
from ..store import Store, access, keeping
from ..store.settings import read as changed_settings
from . import forks
from .app import create_app
from .inspection_pool import InspectionPool
from .logs import JsonLines
from .notifier import Notifier
from .parts import Parts
from .reach import Reach
from .run_closing import NotificationRules
from .scheduler import Scheduler
from .settings import CHANGEABLE, Settings
from .tls import TlsFront, context_of
from .web_server import web_server
from .workers import Workers

ADDRESS_FILE = "service.json"
_SOCKET_FILE = "service.socket"
_TIDY_SECONDS = 3600.0
_WARM_AFTER_SECONDS = 2.0
_LOOKS_AT_ONCE = 4


class ServiceError(ReedError):
    """The service cannot start."""

    code = "service.cannot_start"


class Service:
    """A running service in this process. `start` returns once it listens; `serve` blocks until it is stopped."""

    def __init__(self, settings: Settings) -> None:
        self.settings = settings
        self.store = Store(settings.data, settings.allowed)
        self.workers = Workers(self.store, settings.workers)
        self.scheduler = Scheduler(
            self.store, self.workers, NotificationRules(settings.default_notify, settings.notification_seconds)
        )
        self.workers.ended = self.scheduler.run_ended
        self.inspection = InspectionPool(self.store, _LOOKS_AT_ONCE)
        # Processes of their own: what people look at may take long.
        self._sending = InspectionPool(self.store, 1)
        self.notifier = Notifier(self.store, self._sending, settings, lambda: self.settings.public_url.rstrip("/") or self.url)
        self.taken_up: list[int] = []
        self.upgraded: list[str] = []
        self.url = ""
        self._closing = threading.Event()
        self._lock: IO[str] | None = None
        self._front: TlsFront | None = None

    def start(self) -> None:
        """Start everything.

        Raises:
            ServiceError: another service uses the folder, or the port is taken.
            StoreError: the store cannot be opened.
            TlsError: the certificate cannot be used.
        """
        self.settings.data.mkdir(parents=True, exist_ok=True, mode=0o700)
        self._lock = _only_one(self.settings.data)
        self.upgraded = self.store.upgrade()
        self.token = access.ensure_local_token(self.store)
        self.parts = Parts(self.store, self.workers, self.scheduler, self.inspection, self.settings, "")
        try:
            self._listen()
        except OSError as error:
            raise ServiceError(
                "listening on",
                f"{self.settings.host}:{self.settings.port}",
                found=error.strerror or str(error),
                fix="stop what uses the port, or choose another with --port",
            ) from error
        own = self.settings
        reach = Reach(tuple(map(str, own.allowed)), own.allow_networks, own.deny_networks, self._port)
        self.workers.reach = self.inspection.reach = self._sending.reach = self.parts.isolated.reach = reach
        forks.get_ready()
        self.taken_up = self.workers.start()
        self.scheduler.start()
        self.notifier.start()
        threading.Thread(target=self._tidy, name="tidy", daemon=True).start()
        address = self.settings.data / ADDRESS_FILE
        address.write_text(json.dumps({"url": self.url, "pid": os.getpid()}) + "\n")

    def _listen(self) -> None:
        own = self.settings
        host = f"[{own.host}]" if ":" in own.host else own.host
        bounds: dict[str, Any] = {"threads": own.threads, "proxy": own.proxy, "host": own.host, "port": own.port}
        if own.tls_cert:
            socket = own.data / _SOCKET_FILE
            socket.unlink(missing_ok=True)
            context = context_of(own.tls_cert, own.tls_key)
            self._server = web_server(create_app(self.parts), **bounds, behind_tls=str(socket))
            self._front = TlsFront(context, own.host, own.port, socket)
            self._port = self._front.port
            self.url = f"https://{host}:{self._port}"
        else:
            self._server = web_server(create_app(self.parts), **bounds)
            self._port = int(self._server.effective_port)
            self.url = f"http://{host}:{self._port}"
        self.parts.url = own.public_url.rstrip("/") or self.url

    def _tidy(self) -> None:
        """Delete old records, now and every hour, in a separate thread."""
        own = self.settings
        while not self.parts.closing:
            try:
                changed = changed_settings(self.store)
                days = {name: int(changed.get(name, getattr(own, name))) for name in CHANGEABLE}
                keeping.purge(
                    self.store,
                    requests_days=days["keep_days"],
                    runs_days=days["keep_runs_days"],
                    rejects_days=days["keep_rejects_days"],
                    audit_days=days["keep_audit_days"],
                )
            except Exception as error:  # a full disk, a locked store: what is old goes an hour later
                logging.getLogger("reedbasket.keeping").error("old records could not be deleted: %s", error)
            self._closing.wait(_TIDY_SECONDS)

    def _warm(self) -> None:
        """Once what begins with the service has begun: people look later."""
        if not self._closing.wait(_WARM_AFTER_SECONDS):
            self.inspection.get_ready()

    def serve(self) -> None:
        """Answer until it is stopped."""
        threading.Thread(target=self._warm, name="warm", daemon=True).start()
        try:
            self._server.run()
        finally:
            self._closing.set()
            self.scheduler.stop()
            self.workers.drain(self.settings.grace_seconds)
            self.workers.stop()
            self.notifier.stop()
            self.inspection.stop()
            self._sending.stop()
            if self._front is not None:
                self._front.close()
                (self.settings.data / _SOCKET_FILE).unlink(missing_ok=True)
            (self.settings.data / ADDRESS_FILE).unlink(missing_ok=True)
            self.store.close()

    def sign_in_url(self) -> str:
        """A link that works once, within an hour. The code is behind #, so that no log contains it."""
        return f"{self.parts.url}/sign-in#{access.make_code(self.store)}"


def _only_one(folder: Path) -> IO[str]:
    handle = open(folder / "service.lock", "w")  # noqa: SIM115  (held as long as the process lives)
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError as error:
        raise ServiceError(
            "starting on the data folder",
            str(folder),
            found="another service uses it",
            fix="stop that one, or choose another --data",
            code="service.folder_in_use",
        ) from error
    return handle


def stop_on_signals(service: Service) -> None:
    """Ctrl-C and SIGTERM stop the service; a second signal ends it at once."""

    def handle(number: int, frame: FrameType | None) -> None:
        signal.signal(number, signal.SIG_DFL)
        service.parts.closing = True
        service.workers.signal.tell()
        raise SystemExit(0)  # waitress ends its accept loop and its threads on this

    signal.signal(signal.SIGINT, handle)
    signal.signal(signal.SIGTERM, handle)


def quiet_logs(form: str = "text") -> None:
    """Warnings and errors, on standard error.

    Args:
        form: text, or json with one object on each line.
    """
    handler = logging.StreamHandler(sys.stderr)
    plain = logging.Formatter("%(asctime)s %(name)s %(levelname)s %(message)s")
    handler.setFormatter(JsonLines() if form == "json" else plain)
    logging.basicConfig(level=logging.WARNING, handlers=[handler])
    if form == "json":
        logging.getLogger("reedbasket").setLevel(logging.INFO)
