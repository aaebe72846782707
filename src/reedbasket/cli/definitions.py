"""apply, export, definitions, versions, revert, schema, secret."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from ..client import connect
from . import show

if TYPE_CHECKING:
    from .. import wire


def apply(options: argparse.Namespace) -> int:
    """`reed apply`: a folder of definitions, as one."""
    from ..core.spec.basket import read_folder

    files = read_folder(Path(options.folder))
    settings = {path: Path(path).read_text("utf-8") for path in options.settings}
    client = connect(options.url, options.token)
    done = client.definitions.apply(files, dry_run=options.dry_run, prune=options.prune, settings=settings)
    if options.json:
        return show.as_json(done)
    moved = [one for one in done if one["change"] != "same"]
    if options.dry_run:
        for one in moved:
            print(show.heading(f"{one['change']}  {one['kind']} {one['name']}, version {one['version']}"))
            _diff(one["diff"])
        print(f"{show.plural(len(files), 'file')}, no mistake; {_counted(done)}. Nothing was applied.")
        return 0
    rows = [(a["change"], a["kind"], a["name"], a["version"]) for a in done]
    show.table(["change", "kind", "name", "version"], rows, empty="Nothing to apply.", right=["version"])
    return 0


def _counted(done: list[wire.ApplyResult]) -> str:
    counts = {change: sum(one["change"] == change for one in done) for change in ("new", "changed", "removed", "same")}
    return ", ".join(f"{count} {change}" for change, count in counts.items() if count) or "empty"


def _diff(text: str) -> None:
    for line in text.splitlines():
        print("  " + show.coloured(line, {"+": "green", "-": "red", "@": "cyan"}.get(line[:1], "")))


def export(options: argparse.Namespace) -> int:
    """`reed export`: what is in force, into a folder."""
    files = connect(options.url, options.token).definitions.export()
    if options.json:
        return show.as_json(files)
    if options.folder is None:
        for file, text in files.items():
            print(f"# {file}\n{text}", end="---\n" if file != list(files)[-1] else "")
        return 0
    for file, text in files.items():
        # Names were given by whoever applied them: nothing of them leads out of the folder.
        parts = [part for part in Path(file).parts if part not in ("..", "/", ".")]
        target = Path(options.folder, *(parts[1:] or parts))
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_text(text, "utf-8")
    print(f"Wrote {show.plural(len(files), 'file')} to {options.folder}.")
    return 0


def versions(options: argparse.Namespace) -> int:
    """`reed versions`."""
    found = connect(options.url, options.token).definitions.versions(options.kind, options.name)
    if options.json:
        return show.as_json(found)
    if options.diff:
        for one in found:
            removed = ", removed" if one["removed"] else ""
            print(
                show.heading(
                    f"version {one['version']}{removed}, {show.local_time(one['applied_at'])} by {one['applied_by'] or 'not recorded'}"
                )
            )
            _diff(one["diff"])
        return 0
    rows = [
        (v["version"], "removed" if v["removed"] else "", show.local_time(v["applied_at"]), v["applied_by"], v["file"])
        for v in found
    ]
    show.table(["version", "remark", "applied", "by", "file"], rows, empty="", right=["version"])
    return 0


def revert(options: argparse.Namespace) -> int:
    """`reed revert`."""
    done = connect(options.url, options.token).definitions.revert(options.kind, options.name, options.version)
    if options.json:
        return show.as_json(done)
    _diff(done["diff"])
    print(f"{options.kind} {options.name} is as in version {options.version} again; this is version {done['version']}.")
    return 0


def list_all(options: argparse.Namespace) -> int:
    """`reed definitions`, all of them or one."""
    client = connect(options.url, options.token)
    if options.name:
        found = client.definitions.get(options.kind, options.name)
        if options.json:
            return show.as_json(found)
        import yaml

        print(f"# version {found['version']}, applied {show.local_time(found['applied_at'])} from {found['file']}")
        print(yaml.safe_dump(found["data"], sort_keys=False, allow_unicode=True), end="")
        return 0
    listed = [d for d in client.definitions.list() if options.kind in (None, d["kind"])]
    if options.json:
        return show.as_json(listed)
    rows = [(d["kind"], d["name"], d["version"], show.local_time(d["applied_at"]), d["file"]) for d in listed]
    show.table(
        ["kind", "name", "version", "applied", "file"],
        rows,
        empty="No definitions yet; apply a basket with `reed apply FOLDER`.",
        right=["version"],
    )
    return 0


def schema(options: argparse.Namespace) -> int:
    """`reed schema`."""
    return show.as_json(connect(options.url, options.token).schema())


def secrets(options: argparse.Namespace) -> int:
    """`reed secrets`."""
    found = connect(options.url, options.token).secrets.list()
    if options.json:
        return show.as_json(found)
    rows = [(s["name"], s["kept"], show.ago(s["changed_at"]) if s["changed_at"] else "") for s in found]
    show.table(["name", "stored in", "changed"], rows, empty="No secrets yet; set one with `reed secret set NAME`.")
    return 0


def secret(options: argparse.Namespace) -> int:
    """`reed secret`: set, remove, rotate."""
    client = connect(options.url, options.token)
    if options.action == "rotate":
        print(f"{show.plural(client.secrets.rotate()['count'], 'value')} encrypted with the new key.")
        return 0
    if not options.name:
        print(f"reed: secret {options.action} wants a name  [command.incomplete]", file=sys.stderr)
        return 2
    if options.action == "remove":
        client.secrets.remove(options.name)
        print(f"Removed {options.name}.")
        return 0
    if sys.stdin.isatty():
        import getpass

        value = getpass.getpass(f"{options.name}: ")
    else:
        value = sys.stdin.read().rstrip("\n")
    if not value:
        print("reed: an empty secret is not stored; type it, or pipe it in  [command.incomplete]", file=sys.stderr)
        return 2
    client.secrets.set(options.name, value)
    print(f"Set {options.name}; it is stored encrypted, and never shown.")
    return 0
