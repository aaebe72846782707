"""Requests as a run's log keeps them."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Exchange:
    """One request and its answer as they went over the wire; what shows who asks is blanked, and text masked.

    A body is its first bytes, as text; cut: there were more."""

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
    """One request as it is kept in the run's log. The URL is masked; status is None where no answer came. exchange: of one that went
    wrong though there was an answer, and of all where they are to be kept."""

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
