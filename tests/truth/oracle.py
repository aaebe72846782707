"""What a warehouse has to hold: worked out from the world alone. Imports nothing of the product."""

from __future__ import annotations

import json
import struct
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from decimal import Decimal
from typing import Any

from tests.truth.world import OVERLAP, Row, World, read, write

Rows = list[dict[str, Any]]


def instant(value: Any) -> datetime | None:
    if not isinstance(value, str) or len(value) < 8:
        return None
    text = value.replace("Z", "+00:00") if value.endswith("Z") else value
    try:
        found = datetime.fromisoformat(text if not text.endswith("+00") else text + ":00")
    except ValueError:
        return None
    return found if found.tzinfo else found.replace(tzinfo=UTC)


def same(shown: Any, held: Any) -> bool:
    """Whether a warehouse's value is the source's."""
    if shown is None or held is None:
        return shown is held
    if isinstance(shown, bool) or isinstance(held, bool):
        return str(held).lower() in (("1", "true") if shown is True else ("0", "false"))
    if isinstance(shown, Decimal):
        return Decimal(str(held)) == shown
    if isinstance(shown, list | dict):
        return (json.loads(held) if isinstance(held, str) else held) == shown
    if isinstance(shown, float) and isinstance(held, float):
        # SQLite keeps no sign of zero.
        return shown == held == 0 or struct.pack("d", shown) == struct.pack("d", held)
    if isinstance(shown, int | float) and isinstance(held, int | float):
        return shown == held
    if str(shown) == str(held):
        return True
    a, b = instant(shown), instant(held)
    return a is not None and a == b


def row_matches(number: int, row: Row, held: dict[str, Any], writing: str) -> bool:
    """Children and the loader's own columns aside."""
    shown: dict[str, Any] = {"id": number, "updated_at": write(row.at, writing)}
    for name, value in row.values.items():
        if isinstance(value, dict):
            shown |= {f"{name}_{inner}": v for inner, v in value.items()}
        elif name != "seats":
            shown[name] = value
    ours = {name for name in held if not name.startswith("_rb_")}
    # A column that no record has filled yet need not be there.
    return all(same(value, held.get(name)) for name, value in shown.items()) and all(
        held[name] is None for name in ours - set(shown)
    )


@dataclass
class Expected:
    """What one warehouse has to hold, by how the feed finds changes and writes. rows: by key; appended: every version. since: the
    cursor, as the source's own time. certain: the last run was quiet and whole, so that everything must be just so."""

    by: str
    write: str
    deletes: str
    rows: dict[int, Row] = field(default_factory=dict)
    appended: list[tuple[int, Row]] = field(default_factory=list)
    since: datetime | None = None
    # Records that came spoiled: what became of them is looked at by the rejects.
    excused: set[int] = field(default_factory=set)

    @property
    def sees_deletes(self) -> bool:
        if self.by in ("compare", "cdc", "files"):
            return True
        return self.by == "full" and self.write in ("mirror", "replace", "versions")

    def copy(self) -> Expected:
        return replace(self, rows=dict(self.rows), appended=list(self.appended), excused=set(self.excused))

    def after(self, world: World, until: datetime, unseen: set[int]) -> None:
        """A run that brought all that it can see. unseen: of those that have gone, the ones that it cannot see to have."""
        if self.by == "window":  # months, and the last one has not ended
            until = until.replace(day=1, hour=0, minute=0, second=0, microsecond=0)
        floor = self.since - OVERLAP if self.since is not None and self.by == "cursor" else None
        visible = {n: r for n, r in world.rows.items() if self.by not in ("cursor", "window") or r.at < until}
        if self.by == "cursor":
            visible = {n: r for n, r in visible.items() if floor is None or _shown(r, world) >= floor}
        if self.write != "append":  # where every version stays
            self.excused -= {n for n, r in visible.items() if n in self.excused and self.rows.get(n) is not r}
        if self.write == "append":
            if self.by == "cursor":
                known = {(n, id(r)) for n, r in self.appended}
                self.appended += [(n, r) for n, r in visible.items() if (n, id(r)) not in known]
            elif self.by == "files":  # a changed file's rows are replaced
                self.appended = list(visible.items())
            else:
                self.appended += list(visible.items())
        elif self.write == "replace":
            self.rows = dict(visible)
        elif self.sees_deletes:
            self.rows = {**{n: r for n, r in self.rows.items() if n in unseen}, **visible}
        else:
            self.rows = {**self.rows, **visible}
        if self.sees_deletes:
            self.excused &= set(world.rows) | unseen
        if self.by == "cursor" and visible:
            highest = max(_shown(r, world) for r in visible.values())
            self.since = max(self.since, highest) if self.since is not None else highest

    def differences(self, held: Rows, children: Rows | None, world: World) -> list[str]:
        """What is wrong with the warehouse, in words; nothing where all is right."""
        if self.write == "append":
            return self._of_appended(held, world)
        wrong: list[str] = []
        current = [r for r in held if r.get("_rb_valid_until") is None and r.get("_rb_deleted_at") is None]
        numbers = [int(r["id"]) for r in current if r["id"] is not None]
        wrong += [f"key {n} stands there {numbers.count(n)} times" for n in sorted(set(numbers)) if numbers.count(n) > 1]
        wrong += [f"row {n} is missing" for n in sorted(set(self.rows) - set(numbers) - self.excused)]
        wrong += [f"row {n} is too many" for n in sorted(set(numbers) - set(self.rows) - self.excused)]
        for row in current:
            wanted = self.rows.get(int(row["id"])) if row["id"] is not None else None
            if (
                wanted is not None
                and int(row["id"]) not in self.excused
                and not row_matches(int(row["id"]), wanted, row, world.writing)
            ):
                wrong.append(
                    f"row {row['id']} is {_short(row)}, and should be {wanted.values} at {write(wanted.at, world.writing)}"
                )
        return wrong + self._of_children(children, world)

    def _of_children(self, children: Rows | None, world: World) -> list[str]:
        if world.shape != "nested":
            return []
        wanted = {
            (str(n), place, seat["seat"], seat["row"])
            for n, r in self.rows.items()
            if n not in self.excused
            for place, seat in enumerate(r.values["seats"])
        }
        found = [
            (str(c["_rb_parent"]), c["_rb_ordinal"], c["seat"], c["row"])
            for c in children or []
            if c.get("_rb_valid_until") is None and c.get("_rb_deleted_at") is None and int(c["_rb_parent"]) not in self.excused
        ]
        wrong = [f"child row {c} is missing" for c in sorted(wanted - set(found))]
        wrong += [f"child row {c} is too many" for c in sorted(set(found) - wanted)]
        return wrong + (["a child row stands there twice"] if len(set(found)) < len(found) else [])

    def _of_appended(self, held: Rows, world: World) -> list[str]:
        rest = list(held)
        wrong = []
        for number, row in self.appended:
            fits = (r for r in rest if r["id"] is not None and int(r["id"]) == number)
            match = next((r for r in fits if row_matches(number, row, r, world.writing)), None)
            if match is not None:
                rest.remove(match)
            elif number not in self.excused:
                wrong.append(f"appended row {number} is missing")
        return wrong + [
            f"appended row {r['id']} is too many: {_short(r)}" for r in rest if int(r["id"] or 0) not in self.excused
        ]

    def committed(self, held: Sequence[Rows], world: World) -> None:
        """A run was killed, and may have committed before: versions that it appended stay, whatever the source shows from now on.
        held: of each warehouse."""
        if (self.by, self.write) != ("cursor", "append"):
            return
        known = {(n, id(r)) for n, r in self.appended}
        for number, row in world.rows.items():
            there = [any(row_matches(number, row, one, world.writing) for one in rows if one["id"] == number) for rows in held]
            if all(there) and (number, id(row)) not in known:
                self.appended.append((number, row))
            elif any(there) and not all(there):
                self.excused.add(number)

    def broken(self, held: Rows, world: World) -> list[str]:
        """After a run that failed: every row has to be one that the source showed once, and none that it still has may have gone."""
        wrong = []
        for row in held:
            if row["id"] is None or int(row["id"]) in self.excused:
                continue
            versions = [v[2] for v in world.past.get(int(row["id"]), [])]
            if not any(row_matches(int(row["id"]), version, row, world.writing) for version in versions):
                wrong.append(f"row {row['id']} is {_short(row)}, which the source never showed")
        there = {
            int(r["id"])
            for r in held
            if r["id"] is not None and r.get("_rb_valid_until") is None and r.get("_rb_deleted_at") is None
        }
        before = {n for n, _ in self.appended} if self.write == "append" else set(self.rows)
        return wrong + [
            f"row {n} has gone, though the run failed" for n in sorted(before & set(world.rows) - there - self.excused)
        ]


def _shown(row: Row, world: World) -> datetime:
    found = read(write(row.at, world.writing), world.writing)
    assert found is not None
    return found


def _short(row: dict[str, Any]) -> dict[str, Any]:
    return {name: value for name, value in row.items() if not name.startswith("_rb_")}
