"""Which files of this machine a definition may name: one policy, checked when definitions are applied and again when a file is opened.

Whoever writes definitions is not always whoever runs the service. The service's own folder holds keys and tokens, so no path may lead into
it, except to two folders that hold nothing else.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from .errors import ReedError

FILES, WAREHOUSES = "files", "warehouses"


class PlaceNotAllowed(ReedError):
    """A path leads outside the folders that definitions may reach."""

    code = "place.not_allowed"


@dataclass(frozen=True)
class Places:
    """Where definitions find files.

    Attributes:
        files: where relative paths of sources, copies and certificates begin.
        warehouses: where relative paths of warehouses begin.
        signers: Python files that sign requests; definitions name them, and never bring them.
        allowed: resolved folders that paths may lead into; None for all, if callers act for themselves.
        own: the service's folder, resolved; only `files` and `warehouses` in it can be reached, whatever is allowed.
        lent: one more folder, which the service itself made for this run.
    """

    files: Path
    warehouses: Path
    signers: Path
    allowed: tuple[Path, ...] | None = None
    own: Path | None = None
    lent: Path | None = None

    @classmethod
    def anywhere(cls, folder: Path) -> Places:
        """For a process that acts for whoever started it: everything that it may open itself. Relative paths begin in the folder."""
        return cls(folder, folder, folder / "signers")

    @classmethod
    def of_service(cls, data: Path, allowed: Sequence[Path]) -> Places:
        """For definitions that other people write.

        Args:
            data: the service's folder.
            allowed: further folders that paths may lead into, as whoever started the service says.
        """
        own = data.resolve()
        inside = (own / FILES, own / WAREHOUSES)
        return cls(data / FILES, data / WAREHOUSES, data / "signers", (*inside, *(a.resolve() for a in allowed)), own)

    def file(self, path: str) -> Path:
        """The path of a source, a copy or a certificate.

        Raises:
            PlaceNotAllowed: it leads outside the folders that are allowed.
        """
        return self.require(self.files / path)

    def warehouse(self, path: str) -> Path:
        """The path of a warehouse.

        Raises:
            PlaceNotAllowed: it leads outside the folders that are allowed.
        """
        return self.require(self.warehouses / path)

    def require(self, path: Path) -> Path:
        """The path itself, if what it leads to is allowed, with every link resolved.

        Raises:
            PlaceNotAllowed: it leads outside the folders that are allowed, by itself or by a link.
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
            found=f"of the service's own folder, only {FILES} and {WAREHOUSES} may be used"
            if inside
            else f"it is not in one of the folders that definitions may use: {', '.join(map(str, self.allowed))}",
            fix=f"move it into {within[0]}, or ask the service's operator to allow the folder: `reed serve --allow-path FOLDER`",
        )
