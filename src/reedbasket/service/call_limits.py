"""Limits on calls that occupy a thread for long, so that somebody who makes many of them does not keep others from being answered."""

from __future__ import annotations

import threading
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager


class CallLimiter:
    """A number of places, of which one caller may have three quarters. `_lock` guards the counts."""

    def __init__(self, most: int, what: str) -> None:
        """Prepare.

        Args:
            what: occupies the places, in the plural.
        """
        self.most = most
        self.most_each = most * 3 // 4 if most > 3 else most
        self._what = what
        self._held: Counter[str] = Counter()
        self._lock = threading.Lock()

    def take(self, who: str) -> str:
        """Take a place, to be given back with `give`. Returns why that is not possible, in words; '' if it is."""
        with self._lock:
            if self._held.total() >= self.most:
                return f"{self.most} {self._what} are in progress"
            if self._held[who] >= self.most_each:
                return f"{who} has {self._held[who]} {self._what} in progress"
            self._held[who] += 1
        return ""

    def give(self, who: str) -> None:
        """Give a place back."""
        with self._lock:
            self._held[who] -= 1
            if not self._held[who]:
                del self._held[who]

    @contextmanager
    def held(self, who: str) -> Iterator[str]:
        """A context with a place; yields why there is none, or ''."""
        found = self.take(who)
        try:
            yield found
        finally:
            if not found:
                self.give(who)
