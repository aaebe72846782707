"""The errors of a call."""

from __future__ import annotations

from typing import Any


class ServiceProblem(Exception):
    """The service's own problem details (RFC 9457): status, code, detail, and the facts doing, on, found, fix, details."""

    def __init__(self, problem: dict[str, Any]) -> None:
        super().__init__(problem.get("detail") or problem.get("title") or "the service refused")
        self.problem = problem
        self.status: int = problem.get("status", 0)
        self.code: str = problem.get("code", "")
        self.details: Any = problem.get("details")


class ServiceUnreachable(Exception):
    """Nothing answers at the address, or the address is not known."""
