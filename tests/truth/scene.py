"""A source that shows a world, and a history of it. Each kind of source has a scene of its own."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime
from typing import Protocol

from tests.truth.below import Below
from tests.truth.world import World

MUTATIONS = ("insert", "insert", "equal", "late", "change", "change", "delete")


class Ways(Protocol):
    """How a feed finds changes and writes them."""

    @property
    def by(self) -> str: ...
    @property
    def write(self) -> str: ...
    @property
    def deletes(self) -> str: ...
    @property
    def writing(self) -> str: ...
    @property
    def warehouses(self) -> tuple[str, ...]: ...


@dataclass(frozen=True)
class Round:
    """What happens at the source, and then one run. faults: (name, where). killed: after so many seconds; None for never."""

    mutations: tuple[tuple[str, int], ...] = ()
    faults: tuple[tuple[str, int], ...] = ()
    killed: float | None = None


@dataclass(frozen=True)
class History:
    declared: Ways
    seed: int
    first: int
    rounds: tuple[Round, ...] = field(default_factory=tuple)


@dataclass(frozen=True)
class Struck:
    """A fault that was met. harmless: what comes is right all the same. told: the run may say that it succeeded, if it warns so."""

    name: str
    harmless: bool = False
    told: str = ""

    def __repr__(self) -> str:
        return self.name


class Scene:
    """A source of one kind that shows a world. altered: records that came spoiled; hidden: that did not come at all, and nobody could
    know; unseen: rows whose going the feed's way does not see."""

    def __init__(self, declared: Ways, world: World) -> None:
        self.declared, self.world = declared, world
        self._altered: set[int] = set()
        self.loaded = False  # a run has brought rows
        self.columns: dict[str, str] = {}  # of the warehouse, as the world names them
        self.below: Below | None = None

    def text(self) -> str:
        """Its definitions, but for the warehouses; the feed is `truth`, and writes `things`."""
        raise NotImplementedError

    def moved(self) -> None:
        """The world has changed."""

    def quiet(self) -> None:
        """No fault any more."""
        self._altered = set()

    @property
    def altered(self) -> set[int]:
        return self._altered

    @property
    def hidden(self) -> set[int]:
        return set()

    def strike(self, faults: tuple[tuple[str, int], ...], now: datetime) -> None:
        raise NotImplementedError

    def meanwhile(self) -> None:
        """The run has begun to read."""

    def struck(self) -> list[Struck]:
        raise NotImplementedError

    def unseen(self, before: set[int]) -> set[int]:
        return set()

    def perhaps_there(self, before: set[int]) -> set[int]:
        """Rows that have gone unseen, and that a run that failed may have brought."""
        return set()

    def doubts(self, code: str) -> bool:
        """Whether a plan without a fault may fail so: nobody could tell."""
        return False

    def require_bounds(self) -> str:
        """What the run asked too much of, in words."""
        return ""

    def served(self) -> int | None:
        """Records that the source has sent in this run; None where nobody counts."""
        return None

    def close(self) -> None:
        pass
