"""Where processes for looks come from: one that has imported what they need, and nothing else, forks them in milliseconds."""

from __future__ import annotations

import multiprocessing
from multiprocessing import forkserver
from multiprocessing.context import ForkServerContext

_PRELOADED = ["reedbasket.service.looks.all"]


def context() -> ForkServerContext:
    made = multiprocessing.get_context("forkserver")
    made.set_forkserver_preload(_PRELOADED)
    return made


def get_ready() -> None:
    """Begin to import, and do not wait for it."""
    context()
    forkserver.ensure_running()
