"""What definitions may reach of this machine and its network, as whoever runs the service decides; passed on to each of its processes."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from ..core.outgoing import Outgoing


@dataclass(frozen=True)
class Reach:
    """What definitions may reach.

    Attributes:
        paths: folders besides those in the data folder.
        allow: see Outgoing.
        deny: see Outgoing.
        own_port: see Outgoing.
    """

    paths: tuple[str, ...] = ()
    allow: tuple[str, ...] = ()
    deny: tuple[str, ...] = ()
    own_port: int | None = None

    @property
    def folders(self) -> list[Path]:
        """The folders that are allowed."""
        return [Path(path) for path in self.paths]

    @property
    def outgoing(self) -> Outgoing:
        """The addresses that may be connected to."""
        return Outgoing(self.allow, self.deny, self.own_port)
