"""Connections that wait for the final answer. A server may send interim answers before it (1xx; RFC 9110, section 15.2), of which the
library below knows only 100.
"""

from __future__ import annotations

import http.client
import socket
from contextlib import suppress
from typing import Any
from weakref import WeakSet

import urllib3
from urllib3.connection import HTTPConnection, HTTPSConnection
from urllib3.connectionpool import HTTPConnectionPool, HTTPSConnectionPool

# Of one request. A server that sends more sends them for ever.
_MOST_INTERIM = 20


class _Response(http.client.HTTPResponse):
    def _read_status(self) -> tuple[str, int, str]:
        for _ in range(_MOST_INTERIM):
            version, status, reason = super()._read_status()  # type: ignore[misc]
            if not 100 <= status < 200 or status == 101:
                return version, status, reason
            http.client.parse_headers(self.fp)
        raise http.client.BadStatusLine("interim answers without end")


class _Plain(HTTPConnection):
    response_class = _Response


class _Secure(HTTPSConnection):
    response_class = _Response


class Connections(urllib3.PoolManager):
    """The connections of one source, up to a number for each host. Nothing is retried here."""

    def __init__(self, concurrency: int) -> None:
        super().__init__(num_pools=4, maxsize=concurrency, retries=False)
        held = self._made = WeakSet[Any]()

        class Noted:
            def _new_conn(self) -> Any:
                made = super()._new_conn()  # type: ignore[misc]
                held.add(made)
                return made

        class PlainPool(Noted, HTTPConnectionPool):
            ConnectionCls = _Plain

        class SecurePool(Noted, HTTPSConnectionPool):
            ConnectionCls = _Secure

        self.pool_classes_by_scheme = {"http": PlainPool, "https": SecurePool}

    def abort(self) -> None:
        """Abort all requests: whoever waits for an answer gets an error at once. From any thread."""
        for connection in list(self._made):
            with suppress(OSError, AttributeError):
                connection.sock.shutdown(socket.SHUT_RDWR)
