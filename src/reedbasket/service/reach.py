"""What definitions may reach of this machine and its network, as whoever runs the service says; told to each of its processes."""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass
from pathlib import Path

from ..core.outgoing import Outgoing


@dataclass(frozen=True)
class Reach:
    """paths: folders beside those of the data folder. allow, deny, own_port: see Outgoing."""

    paths: tuple[str, ...] = ()
    allow: tuple[str, ...] = ()
    deny: tuple[str, ...] = ()
    own_port: int | None = None

    @property
    def folders(self) -> list[Path]:
        """The folders that were allowed."""
        return [Path(path) for path in self.paths]

    @property
    def outgoing(self) -> Outgoing:
        """Which addresses may be connected to."""
        return Outgoing(self.allow, self.deny, self.own_port)

    def as_text(self) -> str:
        """For another process; `from_text` reads it."""
        return json.dumps(asdict(self))

    @classmethod
    def from_text(cls, text: str) -> Reach:
        """As `as_text` wrote it."""
        said = json.loads(text)
        return cls(tuple(said["paths"]), tuple(said["allow"]), tuple(said["deny"]), said["own_port"])
