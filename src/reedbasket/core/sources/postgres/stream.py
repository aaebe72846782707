"""Rows of a binary COPY as they come over the wire, many at a time.

Source: PostgreSQL documentation, "Message Formats" and COPY, "Binary Format". The driver hands over row by row, which takes longer
than all the rest of reading; so it signs in and asks, and the answer is read off its socket here. Not where TLS lies in between: its state
is the driver's own.
"""

from __future__ import annotations

import os
import select
import socket
import struct
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import closing, suppress
from dataclasses import dataclass, field
from typing import Any, TypeVar

import numpy as np
import psycopg

from ...postgres import COPY_SIGNATURE
from ..sql.slices import Bytes, Numbers, numbers_at

Made = TypeVar("Made")
# Rows are handed on in batches of about this many bytes; larger ones gain nothing and cost memory.
BATCH_BYTES = 1024 * 1024
_READ_BYTES = 256 * 1024
# So that whoever loads the first rows begins soon.
_FIRST_BYTES = 256 * 1024
_LOOK_SECONDS = 0.5
_ROW, _FAILED = b"dE"
# Behind the letter of a message of a row.
_HEAD = np.dtype([("size", ">i4"), ("fields", ">i2")])
# Ready for the next query, at the end of each answer; the last byte, how the transaction stands, follows.
_READY = b"Z\0\0\0\5"


def may_stream(connection: psycopg.Connection[Any]) -> bool:
    """Whether what the server sends lies on the socket as it is."""
    return not connection.pgconn.ssl_in_use


@dataclass(frozen=True)
class Streaming:
    """How the reads of one source go. stop: ends them. quiet_seconds: how long the server may send nothing. turn: of those who are read
    at once, two work on what they received while the others receive; numpy lets go of the interpreter at each step, and more who work
    would change places at each."""

    stop: threading.Event
    quiet_seconds: float
    turn: threading.Semaphore = field(default_factory=lambda: threading.Semaphore(2))


@dataclass
class Reader:
    """A connection that reads, one statement's answer behind the other's. The driver hears nothing of it, and can go on once all that was
    asked has come. One thread's at a time."""

    connection: psycopg.Connection[Any]
    # Statements, the one that is read and those behind it.
    asked: list[str] = field(default_factory=list)
    # What came behind the last answer's end: of the next one, or what the server says by itself.
    left: bytes = b""

    def rows(
        self,
        statement: str,
        columns: int,
        how: Streaming,
        made: Callable[[Bytes, Numbers, Numbers], Made],
        following: Callable[[], str | None],
    ) -> Iterator[Made]:
        """Batches of `copy (statement) to stdout`, each made of: (bytes, where in them each row begins, where it ends). The first two bytes
        of a row say how many fields it has. The bytes are good only while it is made.

        columns: how many the statement yields. following: asked now and then which statement will be read here next, until there is one;
        the server goes on to that by itself. Raises psycopg.Error, and what `following` does; stops without a word where `stop` is set, so
        the caller is to ask. After each of them the connection is only good for closing."""
        with closing(socket.socket(fileno=os.dup(self.connection.pgconn.socket))) as line:
            if statement not in self.asked:
                self._ask(line, statement)
            buffer, filled, got = bytearray(BATCH_BYTES + _READ_BYTES), 0, len(self.left)
            wanted, fresh = BATCH_BYTES if got else _FIRST_BYTES, False
            buffer[:got] = self.left
            while True:
                if not got:
                    if len(buffer) - filled < _READ_BYTES // 2:
                        buffer = buffer + bytearray(len(buffer))
                    got = _receive(line, memoryview(buffer)[filled:], how, fresh)
                    if how.stop.is_set():
                        return
                filled, fresh, got = filled + got, got > 0, 0
                # What is behind the last answer comes once we ask again; the end of another one may lie anywhere.
                ended = len(self.asked) == 1 and buffer.startswith(_READY, max(filled - 6, 0))
                if fresh and filled < wanted and not ended:
                    self._go_on(line, following)
                    continue
                batch: list[Made] = []
                with how.turn:
                    starts, at = _messages(buffer, filled, columns)
                    ended = bool(len(starts)) and buffer[starts[-1]] == _READY[0]
                    rows, ends = _rows(buffer, starts, at)
                    if len(rows):
                        batch.append(made(np.frombuffer(buffer, np.uint8, at), rows, ends))
                left = bytes(memoryview(buffer)[at:filled])
                if ended:
                    self.asked.remove(statement)
                    self.left = left
                    yield from batch
                    return
                yield from batch
                self._go_on(line, following)
                buffer[: len(left)] = left
                filled = len(left)
                # A row larger than all this is not looked at again before it is there.
                wanted = max(BATCH_BYTES, struct.unpack_from(">i", left, 1)[0] + 1 if filled > 4 else 0)

    def _go_on(self, line: socket.socket, following: Callable[[], str | None]) -> None:
        if len(self.asked) == 1 and (then := following()) is not None:
            self._ask(line, then)

    def _ask(self, line: socket.socket, statement: str) -> None:
        text = f"copy (\n{statement}\n) to stdout (format binary)".encode() + b"\0"
        left = b"Q" + struct.pack(">i", len(text) + 4) + text
        while left:
            try:
                left = left[line.send(left) :]
            except BlockingIOError:
                select.select([], [line], [], _LOOK_SECONDS)
        self.asked.append(statement)


def _receive(line: socket.socket, room: memoryview, how: Streaming, holds: bool) -> int:
    """How many bytes came; none where nobody wants more, or there are some that have waited long enough for others."""
    end = time.monotonic() + how.quiet_seconds
    while not how.stop.is_set():
        try:
            got = line.recv_into(room)
        except BlockingIOError:
            if time.monotonic() > end:
                raise psycopg.OperationalError(f"the server sent nothing for {how.quiet_seconds:g} s") from None
            if not select.select([line], [], [], _LOOK_SECONDS)[0] and holds:
                return 0
            continue
        if not got:
            raise psycopg.OperationalError("server closed the connection unexpectedly")
        return got
    return 0


def _messages(buffer: bytearray, filled: int, columns: int) -> tuple[Numbers, int]:
    """(where whole messages begin, where the last of them ends), up to the end of an answer."""
    data, length, most = np.frombuffer(buffer, np.uint8, filled), struct.Struct(">i").unpack_from, filled - 5
    alike: Numbers | None = None
    ahead, behind = list[int](), list[int]()
    at = before = 0
    while at <= most:
        if alike is None and at + 6 < filled and buffer[at] == _ROW and length(buffer, at + 3)[0] & 0xFFFF == columns:
            alike, at = _rows_alike(data, at, columns)
            continue
        # Of another kind, or not whole yet.
        before = at
        (ahead if alike is None else behind).append(at)
        at += length(buffer, at + 1)[0] + 1
        if buffer[before] == _READY[0]:
            break
    if at > filled:
        (ahead if alike is None else behind).pop()
        at = before
    parts = [np.array(ahead, np.int64), np.zeros(0, np.int64) if alike is None else alike, np.array(behind, np.int64)]
    return np.concatenate(parts), at


def _rows_alike(data: Bytes, at: int, columns: int) -> tuple[Numbers, int]:
    """The same, of all rows from `at` on until something else comes, in a third of the time: what looks like the beginning of a row, where
    one such ends at the next."""
    found: Numbers = np.flatnonzero(data[at : max(len(data) - 6, 0)] == _ROW) + at
    heads = numbers_at(data, found + 1, f"V{_HEAD.itemsize}").view(_HEAD)
    # A field of a number is shorter than any row, so that one behind a text that ends in the same letter is none.
    real = (heads["fields"] == columns) & (heads["size"] >= 6 + 4 * columns)
    found = found[real]
    ends: Numbers = found + 1 + heads["size"][real]
    if not len(found) or found[0] != at:
        return np.zeros(0, np.int64), at
    gaps = np.flatnonzero(ends[:-1] != found[1:])
    if len(gaps):
        found, ends = found[: gaps[0] + 1], ends[: gaps[0] + 1]
    return (found, int(ends[-1])) if ends[-1] <= len(data) else (found[:-1], int(found[-1]))


def _rows(buffer: bytearray, starts: Numbers, end: int) -> tuple[Numbers, Numbers]:
    """Where rows begin and end. starts, end: of messages, each of which ends where the next begins. Raises psycopg.Error for what the
    server says went wrong."""
    data: Bytes = np.frombuffer(buffer, np.uint8)
    kinds, ends = data[starts], np.append(starts[1:], end)
    if (kinds == _FAILED).any():
        raise _error(buffer, int(starts[kinds == _FAILED][0]))
    rows = kinds == _ROW
    at, ends = (starts + 5, ends) if rows.all() else (starts[rows] + 5, ends[rows])
    if len(at) and buffer.startswith(COPY_SIGNATURE, int(at[0])):
        # In the first message, before its row: the signature, flags, and an extension as long as it says.
        ahead = len(COPY_SIGNATURE) + 8
        at[0] += ahead + struct.unpack_from(">i", buffer, int(at[0]) + ahead - 4)[0]
    # The end is a row of -1 fields.
    many = len(at) - 1 if len(at) and data[at[-1]] == 0xFF else len(at)
    return at[:many], ends[:many]


def _error(buffer: bytearray, start: int) -> psycopg.Error:
    size = struct.unpack_from(">i", buffer, start + 1)[0]
    found = {
        part[:1]: part[1:].decode("utf-8", "replace")
        for part in bytes(buffer[start + 5 : start + 1 + size]).split(b"\0")
        if part
    }
    kind: Any = psycopg.Error
    with suppress(KeyError):
        kind = psycopg.errors.lookup(found.get(b"C", ""))
    error: psycopg.Error = kind(found.get(b"M", "the server gave up without a word"))
    return error
