"""Authentication of each request: fixed credentials, tokens that expire, and signatures."""

from __future__ import annotations

from typing import Protocol

from typing_extensions import override

from .credentials import Credentials
from .request import Request


class SignIn(Protocol):
    """Provides credentials. Thread-safe."""

    def shown(self, request: Request) -> Credentials:
        """The credentials for a request. May request a token first.

        Raises:
            SourceError: no token was issued.
            RunCancelled: the run was cancelled.
        """

    def refused(self, shown: Credentials) -> bool:
        """The source answered 401: whether newer credentials are available."""


class FixedCredentials(SignIn):
    """Credentials that never change."""

    def __init__(self, credentials: Credentials | None = None) -> None:
        self._credentials = credentials or Credentials()

    @override
    def shown(self, request: Request) -> Credentials:
        return self._credentials

    @override
    def refused(self, shown: Credentials) -> bool:
        return False
