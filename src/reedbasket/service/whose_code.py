"""Whose Python runs here: admins', and that of packages which whoever runs the service installed as connectors."""

from __future__ import annotations

from typing import Any

from ..core.sources.python.description import described
from ..core.spec import Basket
from ..core.spec.python_connectors import Describe
from ..core.spec.python_runtime import Code
from .problems import Forbidden


def describing(who: str, role: str, there: Basket) -> Describe:
    """What reads a connector's declaration, for those who may run its code.

    Args:
        who: applies a basket, or inspects with a draft.
        role: their role.
        there: what is in force; an admin applied it, and others may keep it.
    """
    in_force = {(connector.code, connector.program) for connector in there.connectors.values()}

    def describe(code: Code) -> dict[str, Any]:
        published = code.program is None and ":" not in code.entry
        if role != "admin" and not published and (code.entry, code.program) not in in_force:
            raise needs_admin(code.entry, who, role)
        return described(code)

    return describe


def needs_admin(file: str, who: str, role: str) -> Forbidden:
    """The error for somebody who brings Python and is not an admin."""
    return Forbidden(
        "applying",
        file,
        found=f"you are {who}, with the role {role}, and this is Python that would run here",
        fix="have an admin apply it, or install it as a package and name its entry point, `code: lockers`",
        code="definition.code_needs_admin",
    )
