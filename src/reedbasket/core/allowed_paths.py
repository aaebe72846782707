"""Which files of this machine a definition may name: one policy, asked when definitions are applied and again when a file is opened.

Whoever writes definitions is not always who runs the service. Its own folder holds the keys and tokens, so that no path leads into it, but
for two folders that hold nothing else.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from .errors import ReedError

FILES, WAREHOUSES = "files", "warehouses"


class PlaceNotAllowed(ReedError):
    """A path leads out of the folders that definitions may reach."""

    code = "place.not_allowed"


@dataclass(frozen=True)
class Places:
    """Where definitions find files.

    Attributes:
        files: where relative paths of sources, copies and certificates begin.
        warehouses: where relative paths of warehouses begin.
        signers: Python that signs requests; definitions name it, and never bring it.
        allowed: resolved folders that paths may lead into; None for all, where the caller acts for themselves.
        own: the service's folder, resolved: of what lies in it only `files` and `warehouses` are reached, whatever is allowed.
        lent: one folder more, which the service itself made for this run.
    """

    files: Path
    warehouses: Path
    signers: Path
    allowed: tuple[Path, ...] | None = None
    own: Path | None = None
    lent: Path | None = None

    @classmethod
    def anywhere(cls, folder: Path) -> Places:
        """For a process that acts for whoever started it: all it may open itself. Relative paths begin in the folder."""
        return cls(folder, folder, folder / "signers")

    @classmethod
    def of_service(cls, data: Path, allowed: Sequence[Path]) -> Places:
        """For definitions that others write.

        Args:
            data: the service's folder.
            allowed: further folders that paths may lead into, as whoever started the service says.
        """
        own = data.resolve()
        inside = (own / FILES, own / WAREHOUSES)
        return cls(data / FILES, data / WAREHOUSES, data / "signers", (*inside, *(a.resolve() for a in allowed)), own)

    def file(self, path: str) -> Path:
        """Where a source, a copy or a certificate lies.

        Raises:
            PlaceNotAllowed: it leads out of what is allowed.
        """
        return self.require(self.files / path)

    def warehouse(self, path: str) -> Path:
        """Where a warehouse lies.

        Raises:
            PlaceNotAllowed: it leads out of what is allowed.
        """
        return self.require(self.warehouses / path)

    def require(self, path: Path) -> Path:
        """The path itself, links and all, where what it leads to is allowed.

        Raises:
            PlaceNotAllowed: it leads out of what is allowed, by itself or by a link.
        """
        if self.allowed is None:
            return path
        real = path.resolve()
        if self.lent is not None and real.is_relative_to(self.lent.resolve()):
            return path
        inside = self.own is not None and real.is_relative_to(self.own)
        within = [self.own / FILES, self.own / WAREHOUSES] if inside and self.own else self.allowed
        if any(real.is_relative_to(folder) for folder in within):
            return path
        raise PlaceNotAllowed(
            "opening",
            str(path),
            found=f"of the service's own folder only {FILES} and {WAREHOUSES} are for data"
            if inside
            else f"it is not in a folder that definitions may use: {', '.join(map(str, self.allowed))}",
            fix=f"move it into {within[0]}, or ask the service's operator to allow the folder: `reed serve --allow-path FOLDER`",
        )
