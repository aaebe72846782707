"""The bytes of a text file in UTF-8, in blocks of whole records: no line is cut, and no quoted value that spans several lines."""

from __future__ import annotations

import codecs
import re
from collections.abc import Iterator
from itertools import chain

import numpy as np

from ..problems import FileProblem, file_problem

# Of a block: pyarrow's own reader takes as much at a time.
BLOCK = 1024 * 1024
# A value with more lines than this holds is taken for a quote that nobody closed.
_MOST_IN_QUOTES = 64 * 1024 * 1024
_LINE_END = 10
# So much at a time stays near the processor.
_PIECE = 128 * 1024
_BOMS = ((codecs.BOM_UTF8, "utf-8"), (codecs.BOM_UTF32_LE, "utf-32-le"), (codecs.BOM_UTF32_BE, "utf-32-be"),
         (codecs.BOM_UTF16_LE, "utf-16-le"), (codecs.BOM_UTF16_BE, "utf-16-be"))  # fmt: skip


def begins_with(first: bytes) -> tuple[str | None, int]:
    """(the encoding that a byte-order mark tells, the mark's length)."""
    return next(((name, len(mark)) for mark, name in _BOMS if first.startswith(mark)), (None, 0))


def in_utf8(parts: Iterator[bytes], encoding: str, path: str) -> Iterator[bytes]:
    """The bytes in UTF-8, without a byte-order mark, which overrides the declared encoding. Bytes that are UTF-8 already are passed on as
    they are.
    """
    first = next(parts, b"")
    while 0 < len(first) < 4 and (more := next(parts, b"")):
        first += more
    said, mark = begins_with(first)
    first, encoding = first[mark:], said or encoding
    if codecs.lookup(encoding).name in ("utf-8", "ascii"):
        yield first
        yield from parts
        return
    decoder, taken = codecs.getincrementaldecoder(encoding)(), 0
    for part in chain((first,), parts):
        try:
            yield decoder.decode(part).encode("utf-8")
        except UnicodeError as error:
            raise wrong_encoding(path, encoding, f"after about {taken:,} bytes: {error}") from None
        taken += len(part)
    try:
        yield decoder.decode(b"", final=True).encode("utf-8")
    except UnicodeError as error:
        raise wrong_encoding(path, encoding, str(error)) from None


def wrong_encoding(path: str, encoding: str, words: str) -> FileProblem:
    """The error for a file whose bytes are not in its encoding."""
    other = "cp1252" if codecs.lookup(encoding).name == "utf-8" else "utf-8"
    return file_problem(
        "file.encoding", f"{path} is not {encoding}, {words}", f"give its encoding, perhaps `encoding: {other}`"
    )


def whole_lines(parts: Iterator[bytes], quote: str | None, delimiter: str, path: str) -> Iterator[bytes]:
    """Blocks of about a megabyte that each end after a record.

    Args:
        quote: the quotation mark of values; None if there is none.
    """
    held, mark = b"", quote.encode() if quote else b""
    inside = _quoted(quote, delimiter) if quote else None
    for part in parts:
        # Most blocks have no quote at all: those are put together once, and not copied twice to be cut.
        if len(part) >= BLOCK and (not mark or (mark not in part and mark not in held)) and (cut := part.rfind(b"\n") + 1):
            yield b"".join((held, memoryview(part)[:cut]))
            held = part[cut:]
            continue
        held = held + part if held else part
        if len(held) < BLOCK:
            continue
        end = held.rfind(b"\n") + 1
        if end and mark and held.count(mark, 0, end) % 2 and inside is not None:
            end = _behind_record(held, inside)
        if not end:
            if len(held) > _MOST_IN_QUOTES:
                what = "a value" if mark else "a line"
                words = f"{what} of {path} goes on for {len(held):,} bytes"
                raise file_problem("file.damaged", words, "check whether a quotation mark is never closed")
            continue
        yield held[:end]
        held = held[end:]
    if held:
        if mark and inside is not None and held.count(mark) % 2 and any(not found[1] for found in inside.finditer(held)):
            raise file_problem("file.damaged", f"a quotation mark in {path} is never closed", "replace it with the whole file")
        yield held


def lines_in(block: bytes) -> int:
    """The number of line ends, in a third of the time of `bytes.count`."""
    letters = np.frombuffer(block, np.uint8)
    return sum(int(np.count_nonzero(letters[at : at + _PIECE] == _LINE_END)) for at in range(0, len(letters), _PIECE))


def _quoted(quote: str, delimiter: str) -> re.Pattern[bytes]:
    q, d = re.escape(quote.encode()), re.escape(delimiter.encode())
    return re.compile(rb"(?:^|(?<=[\n\r])|(?<=" + d + rb"))" + q + rb"(?:[^" + q + rb"]|" + q + q + rb")*(" + q + rb"|\Z)")


def _behind_record(held: bytes, inside: re.Pattern[bytes]) -> int:
    """Where the last line ends that is no part of a quoted value; 0 for nowhere."""
    end, searched = 0, 0
    for found in inside.finditer(held):
        line = held.rfind(b"\n", searched, found.start()) + 1
        end, searched = max(end, line), found.end()
        if not found[1]:
            return end
    return max(end, held.rfind(b"\n", searched) + 1)
