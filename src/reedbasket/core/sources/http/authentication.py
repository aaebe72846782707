"""Authentication of each request: standing credentials, tokens that expire, and signatures alike."""

from __future__ import annotations

from typing import Protocol

from typing_extensions import override

from .credentials import Credentials
from .request import Request


class SignIn(Protocol):
    """Safe across threads."""

    def shown(self, request: Request) -> Credentials:
        """What this request carries. May ask for a token first. Raises SourceError, RunCancelled."""

    def refused(self, shown: Credentials) -> bool:
        """The source answered 401 to what was shown: whether something newer is to be had."""


class Standing(SignIn):
    """Credentials that stay as they are."""

    def __init__(self, credentials: Credentials | None = None) -> None:
        self._credentials = credentials or Credentials()

    @override
    def shown(self, request: Request) -> Credentials:
        return self._credentials

    @override
    def refused(self, shown: Credentials) -> bool:
        return False
