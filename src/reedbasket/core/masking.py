"""Secrets never leave in text: every log line, error and stored URL passes through a Mask."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any
from urllib.parse import quote, quote_plus

from .errors import ReedError

HIDDEN = "•••"


class Mask:
    """Replaces secret values, plain and percent-encoded, wherever they stand in text."""

    def __init__(self, secrets: Iterable[str] = ()) -> None:
        self._forms: list[str] = []
        self.add(*secrets)

    def add(self, *secrets: str) -> None:
        """Further ones, met on the way. Safe across threads: the list is replaced, never changed."""
        forms = {form for s in secrets if s for form in (s, quote(s, safe=""), quote_plus(s))}
        # Longest first, so that a secret that contains another one leaves nothing behind.
        self._forms = sorted({*self._forms, *forms}, key=len, reverse=True)

    def __repr__(self) -> str:
        return f"Mask({len(self._forms)} forms)"

    def text(self, text: str) -> str:
        for form in self._forms:
            if form in text:
                text = text.replace(form, HIDDEN)
        return text

    def value(self, value: Any) -> Any:
        """The same for strings anywhere inside dicts and lists."""
        if not self._forms:
            return value
        if isinstance(value, str):
            return self.text(value)
        if isinstance(value, dict):
            return {self.value(k): self.value(v) for k, v in value.items()}
        if isinstance(value, list | tuple):
            return [self.value(v) for v in value]
        return value

    def error(self, error: ReedError) -> ReedError:
        """The same error with its facts masked, in place, so that its cause and class stay."""
        error.doing, error.on = self.text(error.doing), self.text(error.on)
        error.found, error.mend = self.text(error.found), self.text(error.mend)
        error.details = self.value(error.details)
        error.args = (error.doing, error.on, error.found, error.mend)
        return error
