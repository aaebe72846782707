"""Records that are asked for once for each record of another table: the places of a thing. Imports nothing of the product."""

from __future__ import annotations

from dataclasses import dataclass, field

from tests.truth.oracle import Rows
from tests.truth.world import World


def shown_below(world: World, but: set[int]) -> dict[tuple[int, str], int]:
    return {(n, seat["seat"]): seat["row"] for n, row in world.rows.items() if n not in but for seat in row.values["seats"]}


@dataclass
class Below:
    """What one warehouse has to hold of them. unsure: of these things any version may have been met, or none."""

    write: str
    rows: dict[tuple[int, str], int] = field(default_factory=dict)
    unsure: set[int] = field(default_factory=set)

    def after(self, world: World, excused: set[int]) -> None:
        """A run that succeeded. What a thing had before, and has no more, stays where it is merged."""
        shown = shown_below(world, excused)
        self.rows = shown if self.write == "mirror" else {**self.rows, **shown}
        self.unsure = excused if self.write == "mirror" else self.unsure | excused

    def differences(self, held: Rows | None, world: World) -> list[str]:
        wanted = {place: row for place, row in self.rows.items() if place[0] not in self.unsure}
        found = [(int(r["thing"]), r["seat"], r["row"]) for r in held or [] if r.get("_rb_deleted_at") is None]
        sure = {(n, seat): row for n, seat, row in found if n not in self.unsure}
        wrong = [
            f"place {place} is {sure.get(place)}, and should be {wanted.get(place)}" for place in wanted.keys() - sure.keys()
        ]
        wrong += [f"place {place} is too many" for place in sure.keys() - wanted.keys()]
        wrong += [f"place {place} holds {sure[place]}" for place in wanted.keys() & sure.keys() if sure[place] != wanted[place]]
        wrong += ["a place stands there twice"] * (len({(n, seat) for n, seat, _ in found}) < len(found))
        return wrong + self.broken(held, world)

    def broken(self, held: Rows | None, world: World) -> list[str]:
        """After a run that failed too: none is of a thing that never had it."""
        ever = {
            (n, seat["seat"], seat["row"])
            for n, versions in world.past.items()
            for version in versions
            for seat in version[2].values["seats"]
        }
        found = {(int(r["thing"]), r["seat"], r["row"]) for r in held or []}
        return [f"place {place} was never shown" for place in found - ever]
