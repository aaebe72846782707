"""The protocol between a connector's process and the worker: a letter, a length of four bytes, and a payload of that length.

To it:   o an order (JSON) · h an answer to its request (a line of JSON, then the body) · x why there is no answer (JSON) From it: j
records (a JSON list) · a records (an Arrow stream) · p its position (JSON) · q a request (JSON) · l a line for the log (JSON) d the result
of an order (JSON), at its end · e why it failed (JSON)
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


class PeerGone(Exception):
    """The other process has ended."""


class PeerSilent(Exception):
    """The other process said nothing for too long."""


def widen(pipe: int) -> None:
    """Enlarge a pipe, so that a page fits into it at once, instead of 64 KiB at a time."""
    with suppress(OSError):
        fcntl.fcntl(pipe, fcntl.F_SETPIPE_SZ, _PIPE_BYTES)


def send(out: int, letter: bytes, payload: bytes) -> None:
    """Send a message.

    Args:
        out: a file descriptor.

    Raises:
        PeerGone: the other process has ended.
    """
    for piece in (memoryview(_HEAD.pack(letter, len(payload))), memoryview(payload)):
        while piece:
            try:
                piece = piece[os.write(out, piece) :]
            except BrokenPipeError:
                raise PeerGone from None


def receive(source: int, *, seconds: float | None = None, look: Callable[[], None] = lambda: None) -> tuple[bytes, bytes]:
    """(letter, payload) of the next message.

    Args:
        seconds: of silence that are allowed.
        look: called while nothing comes; may raise.

    Raises:
        PeerGone: the other process has ended.
        PeerSilent: nothing came for too long.
    """
    letter, length = _HEAD.unpack(_take(source, _HEAD.size, seconds, look))
    if length > MOST_BYTES:
        raise PeerGone
    return letter, _take(source, length, seconds, look)


def _take(source: int, count: int, seconds: float | None, look: Callable[[], None]) -> bytes:
    parts, left, heard = [], count, time.monotonic()
    while left:
        if seconds is not None:
            while not select.select([source], [], [], _LOOK_SECONDS)[0]:
                look()
                if time.monotonic() - heard > seconds:
                    raise PeerSilent
        part = os.read(source, min(left, 1 << 20))
        if not part:
            raise PeerGone
        heard = time.monotonic()
        parts.append(part)
        left -= len(part)
    return parts[0] if len(parts) == 1 else b"".join(parts)
