"""TLS for the service, in its own process: the web server listens on a socket file, and this passes the bytes on."""

from __future__ import annotations

import asyncio
import socket
import ssl
import threading
from contextlib import suppress
from pathlib import Path

from ..core.errors import ReedError
from .web_server import name_for

_PIECE = 64 * 1024


class TlsError(ReedError):
    """A certificate or key that cannot be used."""

    code = "service.bad_tls"


def context_of(cert: str, key: str) -> ssl.SSLContext:
    """TLS 1.2 and later.

    Raises:
        TlsError: the certificate or the key cannot be used.
    """
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.minimum_version = ssl.TLSVersion.TLSv1_2
    try:
        context.load_cert_chain(cert, key)
    except (OSError, ssl.SSLError) as error:
        raise TlsError(
            "reading the certificate",
            f"{cert}, {key}",
            found=str(error),
            fix="give two PEM files that belong together",
        ) from error
    return context


class TlsFront:
    """Listens in a separate thread with its own event loop."""

    def __init__(self, context: ssl.SSLContext, host: str, port: int, behind: Path) -> None:
        """Start to listen.

        Args:
            behind: the socket file of the web server.
        """
        self._context = context
        self._behind = behind
        self._loop = asyncio.new_event_loop()
        self._started = threading.Event()
        self._problem: OSError | None = None
        self.port = 0
        threading.Thread(target=self._run, args=(host, port), name="tls", daemon=True).start()
        self._started.wait()
        if self._problem is not None:
            raise self._problem

    def close(self) -> None:
        """Stop answering."""
        self._loop.call_soon_threadsafe(self._loop.stop)

    def _run(self, host: str, port: int) -> None:
        asyncio.set_event_loop(self._loop)
        try:
            server = self._loop.run_until_complete(
                asyncio.start_server(self._serve, host, port, ssl=self._context, ssl_handshake_timeout=10)
            )
        except OSError as error:
            self._problem = error
            self._started.set()
            return
        self.port = server.sockets[0].getsockname()[1]
        self._started.set()
        self._loop.run_forever()

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            ours = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
            ours.setblocking(False)
            ours.bind(name_for(*writer.get_extra_info("peername")[:2]))
            await self._loop.sock_connect(ours, str(self._behind))
            inner, outer = await asyncio.open_unix_connection(sock=ours)
        except OSError:
            writer.close()
            return
        one, other = asyncio.ensure_future(_pass_on(reader, outer)), asyncio.ensure_future(_pass_on(inner, writer))
        # Whoever ends first ends the whole: answers end with `connection: close`, callers by hanging up.
        await asyncio.wait({one, other}, return_when=asyncio.FIRST_COMPLETED)
        if one.done():
            await asyncio.wait({other}, timeout=5)
        for task in (one, other):
            task.cancel()
        for end in (writer, outer):
            with suppress(OSError, ssl.SSLError):
                end.close()


async def _pass_on(source: asyncio.StreamReader, target: asyncio.StreamWriter) -> None:
    with suppress(OSError, ssl.SSLError, asyncio.CancelledError):
        while piece := await source.read(_PIECE):
            target.write(piece)
            await target.drain()
