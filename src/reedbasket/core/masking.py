"""Secrets never leave as text: every log line, error and stored URL passes through a Mask."""

from __future__ import annotations

import base64
import re
from collections.abc import Iterable, Iterator
from functools import lru_cache
from html.entities import codepoint2name
from typing import Any
from urllib.parse import quote, quote_plus

from .errors import ReedError

HIDDEN = "•••"
# A longer one (a private key) is looked for as it is, and line by line.
_LOOKED_AT_BY_LETTER = 400
_LINE = 16
# Shorter than this, what base64 makes of it says too little.
_BASE64_FROM = 6
# So many letters of a secret say something.
_BEGUN = 8
_ESCAPES = {'"': r"\"", "\\": "\\\\", "/": r"\/", "\n": r"\n", "\r": r"\r", "\t": r"\t", "\b": r"\b", "\f": r"\f", "'": r"\'"}


class Mask:
    """Replaces secrets wherever they occur in text, in whatever form: plain, percent-encoded by any rule, escaped as in JSON, HTML or
    Python, in base64 (alone, or in a pair of user and password), or as hexadecimal digits.
    """

    def __init__(self, secrets: Iterable[str] = ()) -> None:
        self._secrets: frozenset[str] = frozenset()
        self._forms: re.Pattern[str] | None = None
        self.add(*secrets)

    def add(self, *secrets: str) -> None:
        """Add secrets that turn up later. Thread-safe: the pattern is replaced, never changed."""
        known = self._secrets | {s for s in secrets if s}
        if known != self._secrets:
            # Longest first, so that a secret that contains another one leaves nothing behind.
            self._secrets, self._forms = known, re.compile("|".join(map(_forms, sorted(known, key=len, reverse=True))))

    def __repr__(self) -> str:
        return f"Mask({len(self._secrets)} secrets)"

    def text(self, text: str) -> str:
        """A text with every form of the secrets masked."""
        return text if self._forms is None else self._without_begun(self._forms.sub(HIDDEN, text))

    def _without_begun(self, text: str) -> str:
        """Texts are cut to be shown: what stands at the end may be how a secret begins."""
        for secret in self._secrets:
            for begun in {secret, quote(secret, safe="")}:
                first = max(0, len(text) - min(len(begun), _LOOKED_AT_BY_LETTER))
                at = next((at for at in range(first, len(text) - _BEGUN + 1) if begun.startswith(text[at:])), None)
                if at is not None:
                    text = text[:at] + HIDDEN
        return text

    def value(self, value: Any) -> Any:
        """The same for strings anywhere inside dicts and lists."""
        if self._forms is None:
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
        error.found, error.fix = self.text(error.found), self.text(error.fix)
        error.details = self.value(error.details)
        error.args = (error.doing, error.on, error.found, error.fix)
        return error


@lru_cache(maxsize=256)
def _forms(secret: str) -> str:
    """A pattern of all its writings."""
    if len(secret) > _LOOKED_AT_BY_LETTER:
        lines = [line for line in secret.splitlines() if len(line) >= _LINE]
        plain = {secret, quote(secret, safe=""), quote_plus(secret), *lines, *(quote(line, safe="") for line in lines)}
        return "|".join(re.escape(form) for form in sorted(plain, key=len, reverse=True))
    by_letter = "".join(f"(?:{'|'.join(sorted(_letter(letter), key=len, reverse=True))})" for letter in secret)
    digits = secret.encode("utf-8", "surrogatepass").hex()
    others = [re.escape(core) for core in _base64(secret)]
    if len(secret) >= _BASE64_FROM:
        others.append(f"(?i:{digits})")
    return "|".join([by_letter, *others])


def _letter(letter: str) -> Iterator[str]:
    octets = letter.encode("utf-8", "surrogatepass")
    yield re.escape(letter)
    yield _each("%(?:25)?", (f"{octet:02x}" for octet in octets))
    yield _each(r"\\x", (f"{octet:02x}" for octet in octets))
    units = letter.encode("utf-16-be", "surrogatepass")
    yield _each(r"\\u", (units[n : n + 2].hex() for n in range(0, len(units), 2)))
    yield f"(?i:&#(?:0*{ord(letter)}|x0*{ord(letter):x});)"
    if letter == " ":
        yield r"\+"
    if letter in _ESCAPES:
        yield re.escape(_ESCAPES[letter])
    if ord(letter) in codepoint2name:
        yield f"&{codepoint2name[ord(letter)]};"
    if letter == "'":
        yield "&apos;"


def _each(before: str, digits: Iterable[str]) -> str:
    return "(?i:" + "".join(before + one for one in digits) + ")"


def _base64(secret: str) -> Iterator[str]:
    """What occurs of a secret in base64, wherever it begins: after a user's name, or by itself; in both alphabets."""
    octets = secret.encode("utf-8", "surrogatepass")
    if len(octets) < _BASE64_FROM:
        return
    for before in range(3):
        made = base64.b64encode(b"\0" * before + octets).decode().rstrip("=")
        # The first letters hold what stands before it, the last one what stands behind.
        core = made[(0, 2, 3)[before] : len(made) - ((before + len(octets)) % 3 != 0)]
        yield from {core, core.replace("+", "-").replace("/", "_")}
