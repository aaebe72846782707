"""Connections that wait for the answer itself. Servers may send interim ones before it (1xx; RFC 9110, section 15.2), of which the
library below knows only 100."""

from __future__ import annotations

import http.client

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


class _PlainPool(HTTPConnectionPool):
    ConnectionCls = _Plain


class _SecurePool(HTTPSConnectionPool):
    ConnectionCls = _Secure


def connections(at_once: int) -> urllib3.PoolManager:
    """Of one source, so many at once to each host. Nothing is tried again here."""
    manager = urllib3.PoolManager(num_pools=4, maxsize=at_once, retries=False)
    manager.pool_classes_by_scheme = {"http": _PlainPool, "https": _SecurePool}
    return manager
