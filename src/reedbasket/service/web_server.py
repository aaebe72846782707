"""The web server, with limits: nobody can hold up others by idle connections, incomplete requests, or answers that are not read."""

from __future__ import annotations

import socket
import time
from collections import Counter
from collections.abc import Callable
from typing import Any

from waitress.adjustments import Adjustments
from waitress.channel import HTTPChannel
from waitress.server import BaseWSGIServer, TcpWSGIServer, UnixWSGIServer
from waitress.task import ThreadedTaskDispatcher

CONNECTIONS = 1_000
CONNECTIONS_OF_ONE = 100
# A basket of a thousand files is a tenth of it.
BODY_BYTES = 32 * 1024 * 1024
HEADER_BYTES = 64 * 1024
# A whole request, from its first byte to its last; then how long a connection may stay without one, and an answer without a reader.
REQUEST_SECONDS, IDLE_SECONDS, UNREAD_SECONDS = 30, 120, 60
_LOOK_SECONDS = 5


class _Channel(HTTPChannel):  # type: ignore[misc]
    """began: when the request that is still arriving began."""

    began = 0.0

    def received(self, data: bytes) -> bool:
        if self.request is None:
            self.began = time.time()
        return bool(super().received(data))


class _Bounded(BaseWSGIServer):  # type: ignore[misc]
    """unbounded: an address whose connections come from many callers, like a proxy's."""

    channel_class = _Channel
    unbounded = ""

    def handle_accept(self) -> None:
        peers = Counter(channel.addr[0] for channel in self.active_channels.values())
        try:
            accepted = self.accept()
            if accepted is None:
                return
            connection, address = accepted
            address = self.fix_addr(address)
            if self.unbounded not in ("*", address[0]) and peers[address[0]] >= CONNECTIONS_OF_ONE:
                connection.close()
                return
            self.set_socket_options(connection)
        except OSError:  # whoever called has hung up by now
            return
        self.channel_class(self, connection, address, self.adj, map=self._map)

    def maintenance(self, now: float) -> None:
        for channel in list(self.active_channels.values()):
            if channel.requests:  # being answered
                over = channel.total_outbufs_len > 0 and channel.last_activity < now - UNREAD_SECONDS
            elif channel.request is not None:
                over = channel.began < now - REQUEST_SECONDS
            else:
                over = channel.last_activity < now - IDLE_SECONDS
            if over:
                # At once: that it is to be closed would be seen when it can be written to, and one that nobody reads never can.
                channel.handle_close()


class _ByAddress(_Bounded, TcpWSGIServer):  # type: ignore[misc]
    pass


class _BehindTls(_Bounded, UnixWSGIServer):  # type: ignore[misc]
    def fix_addr(self, addr: Any) -> tuple[str, None]:
        """Our own TLS front tells the caller's address by the name of its end of the socket."""
        name = addr.decode("utf-8", "replace") if isinstance(addr, bytes) else str(addr or "")
        return (name.strip("\0").split("/")[1] if name.startswith("\0reed/") else "localhost", None)


def name_for(peer: str, port: int) -> str:
    """The name of the TLS front's end of the socket, from which the server behind it knows the caller. It is in Linux's abstract
    namespace (unix(7)), where nothing has to be removed.
    """
    return f"\0reed/{peer}/{port}"


def web_server(app: Callable[..., Any], *, threads: int, proxy: str, host: str, port: int, behind_tls: str = "") -> Any:
    """Listen; nobody is answered before `run`.

    Args:
        app: the WSGI application.
        threads: that answer.
        proxy: address of the proxy whose X-Forwarded-For and -Proto count; '' for none.
        behind_tls: a socket file to listen at instead of host and port.

    Raises:
        OSError: the address cannot be listened at.
    """
    told: dict[str, Any] = {
        "threads": threads,
        "ident": None,
        # A stream of events must leave as it is made.
        "send_bytes": 1,
        "connection_limit": CONNECTIONS,
        "asyncore_use_poll": True,
        "cleanup_interval": _LOOK_SECONDS,
        "max_request_body_size": BODY_BYTES,
        "max_request_header_size": HEADER_BYTES,
    }
    if proxy:
        told |= {"trusted_proxy": proxy, "trusted_proxy_headers": "x-forwarded-for x-forwarded-proto"}
    if behind_tls:
        adjusted = Adjustments(unix_socket=behind_tls, unix_socket_perms="600", url_scheme="https", **told)
        kind, places = _BehindTls, [(socket.AF_UNIX, socket.SOCK_STREAM, None, None)]
    else:
        adjusted = Adjustments(host=host, port=port, **told)
        kind, places = _ByAddress, adjusted.listen  # a name may have several addresses
    dispatcher, sockets = ThreadedTaskDispatcher(), dict[int, Any]()
    dispatcher.set_thread_count(threads)
    made = [kind(app, sockets, dispatcher=dispatcher, adj=adjusted, sockinfo=place) for place in places]
    for server in made:
        server.unbounded = proxy
    return made[0]  # one loop runs them all
