"""Definitions with their versions."""

from __future__ import annotations

import json
import sqlite3
from dataclasses import dataclass
from typing import Any

import yaml

from .. import wire
from ..core.errors import NotFound
from ..core.spec import Basket, load_texts
from ..core.spec.python_connectors import OURS, program_file
from ..core.spec.table_list import as_written
from ..wire.typed import typed
from .database import Store, now_text

_COLUMNS = "kind, name, version, data, file, applied_at, applied_by, text, line, removed"


@dataclass(frozen=True)
class StoredDefinition:
    """One version of a definition.

    Attributes:
        text: as it was written, comments included; '' if an older version of the service did not keep it.
        removed: this version removed the definition.
    """

    kind: str
    name: str
    version: int
    data: dict[str, Any]
    file: str
    applied_at: str
    applied_by: str
    text: str
    line: int
    removed: bool


def _stored(row: sqlite3.Row) -> StoredDefinition:
    return StoredDefinition(**{**dict(row), "data": json.loads(row["data"]), "removed": bool(row["removed"])})


def current(store: Store, kind: str | None = None) -> list[StoredDefinition]:
    """The definitions in force, by kind and name."""
    rows = store.connection.execute(
        f"""select {_COLUMNS} from (
                select *, max(version) from definition where ? is null or kind = ? group by kind, name)
            where not removed order by kind, name""",
        (kind, kind),
    )
    return [_stored(row) for row in rows]


def names(store: Store, kind: str) -> list[str]:
    """The names of the definitions in force, without reading them."""
    rows = store.connection.execute(
        "select name from (select name, removed, max(version) from definition where kind = ? group by name) where not removed",
        (kind,),
    )
    return [row["name"] for row in rows]


def versions(store: Store, kind: str, name: str) -> list[StoredDefinition]:
    """All versions of one definition, the latest first.

    Raises:
        NotFound: there is no such definition.
    """
    rows = store.connection.execute(
        f"select {_COLUMNS} from definition where kind = ? and name = ? order by version desc", (kind, name)
    ).fetchall()
    if not rows:
        raise NotFound(
            f"looking up the {kind}",
            name,
            found="no such definition",
            fix="see `reed definitions`",
            code="definition.not_found",
        )
    return [_stored(row) for row in rows]


def basket(store: Store) -> Basket:
    """All definitions in force, as one basket. It is shared, so it must not be changed."""
    latest = store.connection.execute("select coalesce(max(rowid), 0) from definition").fetchone()[0]
    held = store.held.get("basket")
    if held is None or held[0] != latest:
        held = (latest, Basket.from_stored({(d.kind, d.name): d.data for d in current(store)}))
        store.held["basket"] = held
    found: Basket = held[1]
    return found


def places(store: Store) -> dict[str, set[str]]:
    """{source | warehouse: the `type`s in the definitions in force}, without checking the definitions."""
    rows = store.connection.execute(
        """select distinct kind, json_extract(data, '$.type') as place from (
               select kind, name, data, removed, max(version) from definition where kind in ('source', 'warehouse')
               group by kind, name)
           where place is not null and not removed"""
    ).fetchall()
    return {kind: {row["place"] for row in rows if row["kind"] == kind} for kind in ("source", "warehouse")}


def feed_version(store: Store, name: str) -> int:
    """The version of a feed in force; 0 if there is none."""
    found = store.connection.execute(
        "select coalesce(max(version), 0) from definition where kind = 'feed' and name = ?", (name,)
    ).fetchone()
    return int(found[0])


def first_applied(store: Store, kind: str, name: str) -> str | None:
    """When a definition was first applied; None if it never was."""
    row = store.connection.execute(
        "select min(applied_at) as at from definition where kind = ? and name = ?", (kind, name)
    ).fetchone()
    return row["at"] if row else None


def apply(store: Store, new: Basket, *, by: str = "", prune: bool = False, dry_run: bool = False) -> list[wire.ApplyResult]:
    """Store a checked basket in one transaction, or say what that would change. `data` and `before` of a result are for showing the
    difference.

    Args:
        prune: remove definitions that the basket does not contain.
        dry_run: change nothing.
    """
    done: list[wire.ApplyResult] = []
    with store.transaction() as connection:
        for kind, name, _ in new.items():
            document = new.documents[kind, name]
            data = json.dumps(document.data, ensure_ascii=False, sort_keys=False, default=str)
            last = _latest(connection, kind, name)
            version, change = (1, "new") if last is None else (last["version"], "same")
            if last is not None and (last["data"] != data or last["removed"]):
                version, change = last["version"] + 1, "new" if last["removed"] else "changed"
            place = (document.file, document.text, document.position(())[0])
            if change != "same" and not dry_run:
                _keep(connection, kind, name, version, data, *place, by)
            elif last is not None and not dry_run and (last["file"], last["text"], last["line"]) != place:
                # Another comment or file is no other definition.
                connection.execute(
                    "update definition set file = ?, text = ?, line = ? where kind = ? and name = ? and version = ?",
                    (*place, kind, name, version),
                )
            before = json.loads(last["data"]) if last is not None and not last["removed"] else None
            done.append(_applied(kind, name, version, change, json.loads(data), before))
        for old in current(store) if prune else []:
            if (old.kind, old.name) in new.documents:
                continue
            if not dry_run:
                _keep(
                    connection,
                    old.kind,
                    old.name,
                    old.version + 1,
                    json.dumps(old.data),
                    old.file,
                    old.text,
                    old.line,
                    by,
                    True,
                )
            done.append(_applied(old.kind, old.name, old.version + 1, "removed", None, old.data))
    return done


def revert(store: Store, kind: str, name: str, version: int, *, by: str = "") -> wire.ApplyResult:
    """Apply an earlier version again, as a new one.

    Raises:
        NotFound: there is no such version.
        DefinitionError: it does not fit the other definitions in force.
    """
    all_of_it = versions(store, kind, name)
    wanted = next((one for one in all_of_it if one.version == version), None)
    if wanted is None or wanted.removed:
        raise NotFound(
            f"looking up the {kind}",
            f"{name}, version {version}",
            found=f"versions: {', '.join(str(one.version) for one in all_of_it if not one.removed)}",
            fix="name one of them",
            code="definition.not_found",
        )
    load_texts({wanted.file: as_yaml(wanted.data)}, basket(store), places=store.places, kept=True)
    last = all_of_it[0]
    same = last.data == wanted.data and not last.removed
    if not same:
        with store.transaction() as connection:
            data = json.dumps(wanted.data, ensure_ascii=False)
            _keep(connection, kind, name, last.version + 1, data, wanted.file, wanted.text, wanted.line, by)
    before = None if last.removed else last.data
    return _applied(kind, name, last.version + (not same), "same" if same else "changed", wanted.data, before)


def export(store: Store) -> dict[str, str]:
    """{file: YAML, or Python}: what was applied, as it was written. Feeds from one text are written once."""
    files: dict[str, list[tuple[int, str]]] = {}
    for found in current(store):
        text = found.text or as_yaml({key: value for key, value in found.data.items() if key not in OURS})
        parts = files.setdefault(found.file, [])
        if (found.line, text) not in parts:
            parts.append((found.line, text))
    written = {file: "---\n".join(text for _, text in sorted(parts)) for file, parts in sorted(files.items())}
    return written | {
        program_file(found.file, found.data["code"]): found.data["program"]
        for found in current(store, "connector")
        if found.data.get("program")
    }


def as_yaml(data: dict[str, Any]) -> str:
    """A definition as YAML."""
    return str(yaml.safe_dump(as_written(data), sort_keys=False, allow_unicode=True, width=120))


def _latest(connection: sqlite3.Connection, kind: str, name: str) -> sqlite3.Row | None:
    found: sqlite3.Row | None = connection.execute(
        f"select {_COLUMNS} from definition where kind = ? and name = ? order by version desc limit 1", (kind, name)
    ).fetchone()
    return found


def _keep(  # noqa: PLR0913 - a column each
    connection: sqlite3.Connection,
    kind: str,
    name: str,
    version: int,
    data: str,
    file: str,
    text: str,
    line: int,
    by: str,
    removed: bool = False,
) -> None:
    connection.execute(
        f"insert into definition ({_COLUMNS}) values (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (kind, name, version, data, file, now_text(), by, text, line, removed),
    )


def _applied(
    kind: str, name: str, version: int, change: str, data: dict[str, Any] | None, before: dict[str, Any] | None
) -> wire.ApplyResult:
    facts = {"kind": kind, "name": name, "version": version, "change": change, "diff": _diff(before, data)}
    return typed(wire.ApplyResult, facts)


def difference(before: StoredDefinition | None, after: StoredDefinition) -> str:
    """The difference between two versions, line by line."""
    old = before.data if before is not None and not before.removed else None
    return _diff(old, None if after.removed else after.data)


def _diff(before: dict[str, Any] | None, after: dict[str, Any] | None) -> str:
    """As unified diffs are written, of the two as YAML; '' where they are the same."""
    from difflib import unified_diff

    old, new = (as_yaml(side).splitlines(keepends=True) if side is not None else [] for side in (before, after))
    return "".join(list(unified_diff(old, new, n=2))[2:])
