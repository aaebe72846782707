"""Requests as a run's log keeps them."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Exchange:
    """One request and its answer as they were sent; credentials are removed, and text is masked.

    Attributes:
        body: the first bytes, as text.
        cut: there were more.
    """

    method: str
    url: str
    headers: dict[str, str]
    body: str
    status: int
    answer_headers: dict[str, str]
    answer_body: str
    cut: bool


@dataclass(frozen=True)
class RequestSeen:
    """One request as the run's log keeps it.

    Attributes:
        url: masked.
        status: None if no answer came.
        exchange: for a request that failed although there was an answer, and for all if they have to be recorded.
    """

    method: str
    url: str
    status: int | None
    seconds: float
    body_bytes: int
    attempt: int
    waited_seconds: float
    problem: str = ""
    pause_seconds: float = 0.0
    pause_reason: str = ""
    exchange: Exchange | None = None
