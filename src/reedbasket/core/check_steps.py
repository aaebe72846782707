"""Steps on the way to a source or a warehouse, each tried and reported by itself."""

from __future__ import annotations

import socket
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass

from .errors import ReedError
from .outgoing import AddressNotAllowed


@dataclass(frozen=True)
class CheckStep:
    """One step.

    Attributes:
        ok: None if it was not reached.
        fix: what to do about it, ready to be pasted.
    """

    step: str
    ok: bool | None
    found: str = ""
    fix: str = ""


def walked(steps: Iterable[CheckStep], names: Sequence[str]) -> list[CheckStep]:
    """The steps up to the first that fails; the steps after it were not reached."""
    done: list[CheckStep] = []
    for step in steps:
        done.append(step)
        if step.ok is False:
            break
    told = {step.step for step in done}
    return [*done, *(CheckStep(name, None) for name in names if name not in told)]


def password_step(secret: str | None, reveal: Callable[[str], str]) -> tuple[CheckStep, str | None]:
    """(the step `secrets`, the password).

    Args:
        secret: the name of the password's secret; None if none is needed.
        reveal: gives a secret by its name.
    """
    try:
        password = reveal(secret) if secret else None
    except ReedError as error:
        return CheckStep("secrets", False, f"{error.found}: {error.on}", error.fix), None
    return CheckStep("secrets", True, "1 set" if secret else "none needed"), password


def reach(host: str, port: int, what: str, seconds: float = 10) -> Iterator[CheckStep]:
    """The host's name, then its port.

    Args:
        what: the key of the definition that says where it is.
    """
    try:
        found = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
        yield CheckStep("name", True, f"{host} is {found[0][4][0]}")
    except OSError as error:
        yield CheckStep("name", False, str(error), f"correct {what}, or fix the machine's name resolution")
        return
    try:
        socket.create_connection((host, port), timeout=seconds).close()
        yield CheckStep("port", True, f"port {port} answers")
    except AddressNotAllowed as error:
        yield CheckStep("port", False, f"{error.found} [{error.code}]", error.fix)
    except OSError as error:
        yield CheckStep(
            "port", False, str(error), f"check that the server is up and that a firewall lets this machine reach port {port}"
        )
