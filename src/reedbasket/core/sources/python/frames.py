"""What a connector's process and ours say to each other: a letter, a length of four bytes, and as many bytes.

To it:   o an order (JSON) · h an answer to its request (a line of JSON, then the body) · x why there is none (JSON)
From it: j records (a JSON list) · a records (an Arrow stream) · p how far it is (JSON) · q a request (JSON) · l a line for the log (JSON)
         d what was asked of it (JSON), at its end · e why it could not (JSON)
"""

from __future__ import annotations

import fcntl
import os
import select
import struct
import time
from collections.abc import Callable
from contextlib import suppress

_HEAD = struct.Struct(">cI")
# One message is held in memory whole.
MOST_BYTES = 256 * 1024 * 1024
_LOOK_SECONDS = 0.2
# What anybody may ask for where the system says nothing else (/proc/sys/fs/pipe-max-size).
_PIPE_BYTES = 1 << 20


class Ended(Exception):
    """The other side has gone."""


class Silent(Exception):
    """The other side said nothing for too long."""


def widen(pipe: int) -> None:
    """A page goes through at once, in place of 64 KiB at a time."""
    with suppress(OSError):
        fcntl.fcntl(pipe, fcntl.F_SETPIPE_SZ, _PIPE_BYTES)


def send(out: int, letter: bytes, payload: bytes) -> None:
    """out: a file descriptor. Raises Ended."""
    for piece in (memoryview(_HEAD.pack(letter, len(payload))), memoryview(payload)):
        while piece:
            try:
                piece = piece[os.write(out, piece) :]
            except BrokenPipeError:
                raise Ended from None


def receive(source: int, *, seconds: float | None = None, look: Callable[[], None] = lambda: None) -> tuple[bytes, bytes]:
    """(letter, payload). seconds: of silence that are borne. look: called while nothing comes, and may raise. Raises Ended, Silent."""
    letter, length = _HEAD.unpack(_take(source, _HEAD.size, seconds, look))
    if length > MOST_BYTES:
        raise Ended
    return letter, _take(source, length, seconds, look)


def _take(source: int, count: int, seconds: float | None, look: Callable[[], None]) -> bytes:
    parts, left, heard = [], count, time.monotonic()
    while left:
        if seconds is not None:
            while not select.select([source], [], [], _LOOK_SECONDS)[0]:
                look()
                if time.monotonic() - heard > seconds:
                    raise Silent
        part = os.read(source, min(left, 1 << 20))
        if not part:
            raise Ended
        heard = time.monotonic()
        parts.append(part)
        left -= len(part)
    return parts[0] if len(parts) == 1 else b"".join(parts)
