"""Places for calls that hold a thread for long, so that whoever makes many of them keeps nobody else from being answered."""

from __future__ import annotations

import threading
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager


class Shares:
    """So many places; of one caller three quarters, where there are some. `_lock` guards the counts."""

    def __init__(self, most: int, what: str) -> None:
        """what: fills the places, in the plural."""
        self.most = most
        self.most_each = most * 3 // 4 if most > 3 else most
        self._what = what
        self._held: Counter[str] = Counter()
        self._lock = threading.Lock()

    def take(self, who: str) -> str:
        """A place; `give` follows. What is in the way, in words; '' for nothing."""
        with self._lock:
            if self._held.total() >= self.most:
                return f"{self.most} {self._what} are going on"
            if self._held[who] >= self.most_each:
                return f"{who} has {self._held[who]} {self._what} going on"
            self._held[who] += 1
        return ""

    def give(self, who: str) -> None:
        """One place back."""
        with self._lock:
            self._held[who] -= 1
            if not self._held[who]:
                del self._held[who]

    @contextmanager
    def held(self, who: str) -> Iterator[str]:
        """A place as long as it lasts, or what is in the way."""
        found = self.take(who)
        try:
            yield found
        finally:
            if not found:
                self.give(who)
