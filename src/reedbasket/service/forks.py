"""Forking workers and processes for inspections in milliseconds, from one that has imported what they need and does nothing else."""

from __future__ import annotations

import multiprocessing
import os
import threading
from multiprocessing import forkserver
from multiprocessing.context import ForkServerContext

_PRELOADED = ["reedbasket.service.inspection.all", "reedbasket.service.worker"]


def context() -> ForkServerContext:
    """The process to fork from, with everything imported."""
    made = multiprocessing.get_context("forkserver")
    made.set_forkserver_preload(_PRELOADED)
    return made


def end_with_service() -> None:
    """For a forked process: end with the service, however that ends."""
    threading.Thread(target=_wait_and_end, name="service", daemon=True).start()


def _wait_and_end() -> None:
    service = multiprocessing.parent_process()
    assert service is not None
    service.join()
    os._exit(0)


def get_ready() -> None:
    """Begin to import, without waiting."""
    context()
    forkserver.ensure_running()
