"""Opening a session by the kind of source."""

from __future__ import annotations

from collections.abc import Callable

from ...sources.pace import Wait
from ...sources.requests_seen import RequestSeen
from ...spec.http import Retry
from ..planning.order import ResolvedSource
from ..request_context import RunContext
from .database_session import DatabaseSession
from .file_session import FileSession
from .http_session import HttpSession
from .source_session import SourceSession


def open_session(
    order: ResolvedSource,
    context: RunContext,
    seen: Callable[[RequestSeen], None],
    told: Callable[[Wait], None] = lambda _: None,
    retry: Retry | None = None,
) -> SourceSession:
    """Open a session with the run's source.

    Raises:
        SecretMissing: a secret is not set.
        SourceError: the source cannot be opened.
    """
    if order.files is not None:
        return FileSession(order, context, seen)
    if order.database is not None:
        return DatabaseSession(order, context, seen)
    return HttpSession(order, context, seen, told, retry)
