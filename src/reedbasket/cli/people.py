"""users, user, tokens, token, settings, audit."""

from __future__ import annotations

import argparse
import sys

from .. import wire
from ..client import connect
from . import show


def settings(options: argparse.Namespace) -> int:
    """`reed settings`, shown or changed."""
    client = connect(options.url, options.token)
    found = client.settings.change(options.name.replace("-", "_"), options.value) if options.name else client.settings.list()
    if options.json:
        return show.as_json(found)
    rows = [
        (
            "--" + one["name"].replace("_", "-"),
            one["value"],
            f"started with {one['began_with']}"
            if one["began_with"] is not None
            else "may be changed"
            if one["changeable"]
            else "",
        )
        for one in found
    ]
    show.table(["option", "is", "remark"], rows, empty="None.")
    return 0


def _remark(user: wire.User) -> str:
    if user["disabled"]:
        return "disabled"
    if user["openid"]:
        return "by OpenID Connect"
    return "" if user["has_password"] else "no password"


def users(options: argparse.Namespace) -> int:
    """`reed users`."""
    found = connect(options.url, options.token).users.list()
    if options.json:
        return show.as_json(found)
    rows = [(u["name"], u["role"], _remark(u), show.ago(u["created_at"])) for u in found]
    show.table(["name", "role", "remark", "added"], rows, empty="No users; add one with `reed user add NAME --role viewer`.")
    return 0


def user(options: argparse.Namespace) -> int:
    """`reed user`: add, change, remove."""
    client = connect(options.url, options.token)
    if not options.name or (options.action == "add" and not options.role):
        print("reed: user add needs a name and --role  [command.incomplete]", file=sys.stderr)
        return 2
    if options.action == "remove":
        client.users.remove(options.name)
        print(f"Removed {options.name}.")
    elif options.action == "add":
        client.users.add(options.name, options.role, _password(options.name))
        print(f"Added {options.name}, {options.role}.")
    else:
        change: dict[str, object] = {"role": options.role} if options.role else {}
        if options.disable or options.enable:
            change["disabled"] = options.disable
        if options.password or not change:
            change["password"] = _password(options.name)
        client.users.change(options.name, **change)
        print(f"Changed {options.name}: {', '.join(change)}.")
    return 0


def _password(name: str) -> str:
    if sys.stdin.isatty():
        import getpass

        return getpass.getpass(f"password of {name}, at least ten characters: ")
    return sys.stdin.read().rstrip("\n")


def tokens(options: argparse.Namespace) -> int:
    """`reed tokens`."""
    found = connect(options.url, options.token).tokens.list()
    if options.json:
        return show.as_json(found)
    rows = [
        (
            t["id"],
            t["label"],
            t["role"],
            show.ago(t["used_at"]),
            show.local_time(t["ends_at"]),
            t["made_by"],
            show.ago(t["created_at"]),
        )
        for t in found
    ]
    show.table(["id", "label", "role", "last used", "expires", "added by", "added"], rows, empty="No tokens.")
    return 0


def token(options: argparse.Namespace) -> int:
    """`reed token`: add, remove."""
    client = connect(options.url, options.token)
    if not options.name:
        print(
            f"reed: token {options.action} wants {'a label' if options.action == 'add' else 'an id'}  [command.incomplete]",
            file=sys.stderr,
        )
        return 2
    if options.action == "remove":
        client.tokens.remove(options.name)
        print(f"Removed {options.name}; it is no longer accepted.")
        return 0
    made = client.tokens.add(options.name, options.role or "viewer", days=options.days)
    if options.json:
        return show.as_json(made)
    print(made["token"])
    print("Shown once; only its hash is kept.", file=sys.stderr)
    return 0


def audit(options: argparse.Namespace) -> int:
    """`reed audit`."""
    found = connect(options.url, options.token).audit(limit=options.limit)
    if options.json:
        return show.as_json(found)
    rows = [
        (
            show.local_time(a["at"]),
            a["who"],
            a["what"] if a["status"] < 400 else show.ColouredCell(f"{a['what']}: refused", "red"),
            a["on"],
            a["details"],
        )
        for a in found
    ]
    show.table(["when", "who", "what", "on", "details"], rows, empty="Nothing was changed yet.", widest=80)
    return 0
