"""Steps on the way to a source or a warehouse, each tried and told by itself."""

from __future__ import annotations

import socket
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

from .outgoing import AddressNotAllowed


@dataclass(frozen=True)
class CheckStep:
    """One thing that was tried. ok: None where it was not reached. fix: what would put it right, ready to be pasted."""

    step: str
    ok: bool | None
    found: str = ""
    fix: str = ""


def walked(steps: Iterable[CheckStep], names: Sequence[str]) -> list[CheckStep]:
    """The steps up to the first that fails; those of the names behind it were not reached."""
    done: list[CheckStep] = []
    for step in steps:
        done.append(step)
        if step.ok is False:
            break
    told = {step.step for step in done}
    return [*done, *(CheckStep(name, None) for name in names if name not in told)]


def reach(host: str, port: int, what: str, seconds: float = 10) -> Iterator[CheckStep]:
    """The host's name, then its port. what: the definition's key that says where it is."""
    try:
        found = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
        yield CheckStep("name", True, f"{host} is {found[0][4][0]}")
    except OSError as error:
        yield CheckStep("name", False, str(error), f"fix {what}, or the machine's name lookup")
        return
    try:
        socket.create_connection((host, port), timeout=seconds).close()
        yield CheckStep("port", True, f"port {port} answers")
    except AddressNotAllowed as error:
        yield CheckStep("port", False, f"{error.found} [{error.code}]", error.fix)
    except OSError as error:
        yield CheckStep("port", False, str(error), f"see that the server runs, and lets this machine reach port {port}")
