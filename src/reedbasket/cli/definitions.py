"""apply, definitions, schema, secret."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from ..client import find_client
from . import show


def apply(options: argparse.Namespace) -> int:
    from ..core.spec.basket import read_folder

    files = read_folder(Path(options.folder))
    done = find_client(options.url, options.token).apply(files, only_check=options.only_check)
    if options.json:
        return show.as_json(done)
    if options.only_check:
        print(f"{len(files)} files, no mistake")
        return 0
    rows = [(a["change"], a["kind"], a["name"], a["version"]) for a in done]
    show.table(["change", "kind", "name", "version"], rows, empty="Nothing to apply.", right=["version"])
    return 0


def list_all(options: argparse.Namespace) -> int:
    client = find_client(options.url, options.token)
    if options.name:
        found = client.definition(options.kind, options.name)
        if options.json:
            return show.as_json(found)
        import yaml

        print(f"# version {found['version']}, applied {show.local_time(found['applied_at'])} from {found['file']}")
        print(yaml.safe_dump(found["data"], sort_keys=False, allow_unicode=True), end="")
        return 0
    listed = [d for d in client.definitions() if options.kind in (None, d["kind"])]
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
    return show.as_json(find_client(options.url, options.token).schema())


def secret(options: argparse.Namespace) -> int:
    client = find_client(options.url, options.token)
    if options.action == "list":
        found = client.secrets()
        if options.json:
            return show.as_json(found)
        show.table(["name", "changed"], [(s["name"], show.ago(s["changed_at"])) for s in found], empty="No secrets yet.")
        return 0
    if not options.name:
        print(f"reed: secret {options.action} wants a name  [command.incomplete]", file=sys.stderr)
        return 2
    if options.action == "remove":
        client.remove_secret(options.name)
        print(f"Removed {options.name}.")
        return 0
    if sys.stdin.isatty():
        import getpass

        value = getpass.getpass(f"{options.name}: ")
    else:
        value = sys.stdin.read().rstrip("\n")
    if not value:
        print("reed: an empty secret is not kept; type it, or pipe it in  [command.incomplete]", file=sys.stderr)
        return 2
    client.set_secret(options.name, value)
    print(f"Set {options.name}; it is sealed, and never shown again.")
    return 0
