"""Where processes for inspections come from: one that has imported what they need, and nothing else, forks them in milliseconds."""

from __future__ import annotations

import multiprocessing
import os
import threading
from multiprocessing import forkserver
from multiprocessing.context import ForkServerContext

_PRELOADED = ["reedbasket.service.inspection.all"]


def context() -> ForkServerContext:
    """The server that processes are forked from, with what they need imported already."""
    made = multiprocessing.get_context("forkserver")
    made.set_forkserver_preload(_PRELOADED)
    return made


def end_with_service() -> None:
    """In a forked process: however the service ends, nothing of it stays."""
    threading.Thread(target=_wait_and_end, name="service", daemon=True).start()


def _wait_and_end() -> None:
    service = multiprocessing.parent_process()
    assert service is not None
    service.join()
    os._exit(0)


def get_ready() -> None:
    """Begin to import, and do not wait for it."""
    context()
    forkserver.ensure_running()
