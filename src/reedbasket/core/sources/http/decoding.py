"""Decompressing bodies (Content-Encoding, RFC 9110, section 8.4), with attention to whether they are complete.

The libraries below silently return what a stream held until it broke off. Here a body that ends before its stream does is detected.
"""

from __future__ import annotations

import zlib
from collections.abc import Iterable, Iterator

# Unpacked bytes handed on at once: a small piece may hold a thousand times as much.
_PIECE_BYTES = 1024 * 1024
# gzip with its header; zlib's own format; deflate as some servers send it, without either.
_GZIP, _ZLIB, _RAW = 31, 15, -15
CODINGS = ("identity", "gzip", "x-gzip", "deflate")


class Decoder:
    """Decompresses one body.

    Raises:
        zlib.error: from `feed`, if the bytes are not in this coding.
        ValueError: the coding is unknown.
    """

    def __init__(self, coding: str) -> None:
        """Prepare to decompress.

        Args:
            coding: the value of Content-Encoding; '' for none. Case does not matter.
        """
        names = [name.strip().lower() for name in coding.split(",") if name.strip()]
        names = [name for name in names if name != "identity"]
        unknown = [name for name in names if name not in CODINGS]
        if unknown or len(names) > 1:
            raise ValueError(coding)
        self._gzip = bool(names) and names[0] != "deflate"
        self._stream = zlib.decompressobj(_GZIP if self._gzip else _ZLIB) if names else None
        self._began = False
        self.bytes_in = 0

    @property
    def ended(self) -> bool:
        """Whether the body may end here. One without any bytes may: nothing was sent, compressed or not."""
        return self._stream is None or self.bytes_in == 0 or self._stream.eof

    def feed(self, piece: bytes) -> Iterable[bytes]:
        """Decompress the next bytes. Several gzip members follow each other as one (RFC 1952, section 2.2)."""
        self.bytes_in += len(piece)
        return [piece] if self._stream is None else self._unpack(piece)

    def _unpack(self, piece: bytes) -> Iterator[bytes]:
        while piece:
            assert self._stream is not None
            if self._stream.eof:
                # Zeros behind the last member are padding, which tools that write whole blocks leave.
                piece = piece.lstrip(b"\0")
                if not piece:
                    return
                if not self._gzip:
                    raise zlib.error("bytes after its end")
                self._stream = zlib.decompressobj(_GZIP)
            try:
                yield self._stream.decompress(piece, _PIECE_BYTES)
            except zlib.error:
                if self._gzip or self._began:
                    raise
                self._stream = zlib.decompressobj(_RAW)
                yield self._stream.decompress(piece, _PIECE_BYTES)
            self._began = True
            piece = self._stream.unconsumed_tail or self._stream.unused_data
