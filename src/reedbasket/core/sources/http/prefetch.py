"""Requesting pages ahead: if the next pages can be told from the present one, their answers are fetched at once and handed out in order. A
wrong guess costs a request, never a record: only `Pages.after` decides.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import Future, ThreadPoolExecutor

from .answers import Answer
from .pagination.pages import Step
from .request import Request

# Answers waiting for their turn; a page may be asked for early while they are below this.
_MOST_WAITING_BYTES = 12 * 1024 * 1024


class Ahead:
    """One pass over one table; used from one thread."""

    def __init__(self, send: Callable[[Request], Answer], make: Callable[[Step], Request], concurrency: int, name: str) -> None:
        self._send = send
        self._make = make
        self._at_once = concurrency
        self._name = name
        self._pool: ThreadPoolExecutor | None = None
        self._asked: dict[str, Future[Answer]] = {}

    def get(self, step: Step, request: Request) -> Answer:
        """The answer to a step's request. Raises whatever sending raises."""
        early = self._asked.pop(_mark(step), None) if self._asked else None
        return early.result() if early else self._send(request)

    def prefetch(self, steps: Sequence[Step], page_bytes: int) -> None:
        """Request these steps ahead, the nearest first, as long as there is room. Requests that are not among them any more are dropped."""
        room = max(1, min(self._at_once, _MOST_WAITING_BYTES // max(page_bytes, 1)))
        wanted = {_mark(step): step for step in steps[:room]}
        for mark in [m for m in self._asked if m not in wanted]:
            self._asked.pop(mark).cancel()
        if len(wanted) <= 1 and not self._asked:
            return  # nothing to gain beside the one that is asked for anyway
        if self._pool is None:
            self._pool = ThreadPoolExecutor(self._at_once, thread_name_prefix=f"pages {self._name}")
        for mark, step in wanted.items():
            if mark not in self._asked:
                self._asked[mark] = self._pool.submit(self._send, self._make(step))

    def close(self, *, wait: bool) -> None:
        """Stop.

        Args:
            wait: for requests under way; otherwise they end by themselves.
        """
        if self._pool is not None:
            self._pool.shutdown(wait=wait, cancel_futures=True)


def _mark(step: Step) -> str:
    return repr((step.url, sorted(step.params.items())))
