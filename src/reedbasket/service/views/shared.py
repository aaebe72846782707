"""What all views share: the list of operations, and the parts of the running service."""

from __future__ import annotations

from collections.abc import Callable
from typing import Concatenate, ParamSpec, TypeVar

from flask import current_app, g

from ...store import Store
from ...store.access import Caller
from ..operations import Operations
from ..parts import Parts

operations = Operations()
_GIVEN = ParamSpec("_GIVEN")
_FOUND = TypeVar("_FOUND")


def parts() -> Parts:
    found: Parts = current_app.extensions["reed"]
    return found


def looked(look: Callable[Concatenate[Store, _GIVEN], _FOUND], *given: _GIVEN.args, **named: _GIVEN.kwargs) -> _FOUND:
    """What one of `looks` finds, in a process of its own; what it raises is raised here."""
    return parts().looks.ask(look, *given, **named)


def caller() -> Caller:
    """Who asks for what is being answered."""
    found: Caller = g.caller
    return found


def noted(details: str) -> None:
    """What the audit line of this call says beside the address."""
    g.audit = details
