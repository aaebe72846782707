"""Definitions with their versions."""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Any

from ..core.spec import Basket
from .database import Store, now_text


@dataclass(frozen=True)
class Stored:
    kind: str
    name: str
    version: int
    data: dict[str, Any]
    file: str
    applied_at: str


def current(store: Store, kind: str | None = None) -> list[Stored]:
    """The definitions in force, by kind and name."""
    rows = store.connection.execute(
        """select kind, name, max(version) as version, data, file, applied_at from definition
           where ? is null or kind = ? group by kind, name order by kind, name""",
        (kind, kind),
    )
    return [Stored(r["kind"], r["name"], r["version"], json.loads(r["data"]), r["file"], r["applied_at"]) for r in rows]


def basket(store: Store) -> Basket:
    """All definitions in force, as one basket."""
    return Basket.from_stored({(d.kind, d.name): d.data for d in current(store)})


def places(store: Store) -> dict[str, set[str]]:
    """{source | warehouse: what the definitions in force are `on`}, without checking them."""
    rows = store.connection.execute(
        """select distinct kind, json_extract(data, '$.on') as place from (
               select kind, name, data, max(version) from definition where kind in ('source', 'warehouse') group by kind, name)
           where place is not null"""
    ).fetchall()
    return {kind: {row["place"] for row in rows if row["kind"] == kind} for kind in ("source", "warehouse")}


def feed_version(store: Store, name: str) -> int:
    """The version of a feed in force; 0 where there is none."""
    found = store.connection.execute(
        "select coalesce(max(version), 0) from definition where kind = 'feed' and name = ?", (name,)
    ).fetchone()
    return int(found[0])


def apply(store: Store, new: Basket) -> list[dict[str, Any]]:
    """Keep a checked basket in one transaction: [{kind, name, version, change}], change new | changed | same."""
    done: list[dict[str, Any]] = []
    with store.transaction() as connection:
        for kind, name, _ in new.items():
            document = new.documents[kind, name]
            data = json.dumps(document.data, ensure_ascii=False, sort_keys=False, default=str)
            last = connection.execute(
                "select version, data from definition where kind = ? and name = ? order by version desc limit 1",
                (kind, name),
            ).fetchone()
            version, change = (1, "new") if last is None else (last["version"], "same")
            if last is not None and last["data"] != data:
                version, change = last["version"] + 1, "changed"
            if change != "same":
                connection.execute(
                    "insert into definition (kind, name, version, data, file, applied_at) values (?, ?, ?, ?, ?, ?)",
                    (kind, name, version, data, document.file, now_text()),
                )
            done.append({"kind": kind, "name": name, "version": version, "change": change})
    return done
