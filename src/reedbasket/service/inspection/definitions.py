"""Definitions that somebody submits: read, checked and applied outside the process that answers requests."""

from __future__ import annotations

from ... import wire
from ...core.runs.planning.secret_hosts import shown
from ...core.spec import Basket, load_texts
from ...core.spec.python_connectors import ENDING
from ...store import Store, definitions
from ...store.access import Role
from ..whose_code import describing, needs_admin


def applied(
    store: Store, files: dict[str, str], settings: dict[str, str], name: str, role: Role, *, prune: bool, dry_run: bool
) -> tuple[list[wire.ApplyResult], str]:
    """What happened to each definition (definitions.apply), and to which new servers secrets will be sent, in words.

    Raises:
        DefinitionError: with all mistakes.
        Forbidden: it contains Python, and the caller may not bring any.
    """
    # Where everything else goes, nothing else can be stood on.
    there = definitions.basket(store)
    _require_admin_for_code(files, there, name, role)
    basket = load_texts(files, None if prune else there, settings, describe=describing(name, role, there), places=store.places)
    done = definitions.apply(store, basket, by=name, prune=prune, dry_run=dry_run)
    told = "; ".join(f"{secret} is sent to {server}" for secret, server in sorted(shown(basket.over(there)) - shown(there)))
    return done, told


def reverted(store: Store, kind: str, name: str, version: int, by: str) -> wire.ApplyResult:
    """See definitions.revert."""
    return definitions.revert(store, kind, name, version, by=by)


def _require_admin_for_code(files: dict[str, str], there: Basket, name: str, role: Role) -> None:
    """Python runs on this machine: only those who may do everything may bring it. Code that is in force already may be included."""
    in_force = {connector.program for connector in there.connectors.values()}
    new = sorted(file for file, text in files.items() if file.endswith(ENDING) and text not in in_force)
    if new and role != "admin":
        raise needs_admin(new[0], name, role)
