"""What all views share: the list of operations, and the parts of the running service."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Concatenate, ParamSpec, TypeVar

from flask import current_app, g

from ...store import Store
from ...store.access import Caller
from ..operations import Operations
from ..parts import Parts
from ..problems import TooBusy

operations = Operations()
_GIVEN = ParamSpec("_GIVEN")
_FOUND = TypeVar("_FOUND")


def parts() -> Parts:
    found: Parts = current_app.extensions["reed"]
    return found


def inspect_in_process(
    look: Callable[Concatenate[Store, _GIVEN], _FOUND], *given: _GIVEN.args, **named: _GIVEN.kwargs
) -> _FOUND:
    """The result of a function of `inspection`, in a separate process; whatever it raises is raised here."""
    with waiting():
        return parts().inspection.ask(look, *given, **named)


def inspect_within(
    seconds: float, look: Callable[Concatenate[Store, _GIVEN], _FOUND], *given: _GIVEN.args, **named: _GIVEN.kwargs
) -> _FOUND:
    with waiting():
        return parts().inspection.run_within(seconds, look, *given, **named)


def isolated(
    seconds: float,
    megabytes: int | None,
    look: Callable[Concatenate[Store, _GIVEN], _FOUND],
    *given: _GIVEN.args,
    **named: _GIVEN.kwargs,
) -> _FOUND:
    """The same, in a process with limits of time and memory (see IsolatedCalls.ask)."""
    with waiting():
        return parts().isolated.ask(seconds, megabytes, look, *given, **named)


@contextmanager
def waiting() -> Iterator[None]:
    """A context for what occupies a thread for long.

    Raises:
        TooBusy: too many threads are occupied.
    """
    who: Caller | None = g.get("caller")  # of a page that asks for no sign-in, nobody
    with parts().slow.held(who.name if who else "nobody") as found:
        if found:
            raise TooBusy("answering", found=found, fix="try again in a moment, or raise --threads", wait_seconds=1)
        yield


def caller() -> Caller:
    """Who made the request."""
    found: Caller = g.caller
    return found


def noted(details: str) -> None:
    """Add details to the audit line of this call."""
    g.audit = details
