"""What all views share: the list of operations, and the parts of the running service."""

from __future__ import annotations

from typing import TYPE_CHECKING

from flask import current_app

from ..operations import Operations

if TYPE_CHECKING:
    from ..app import Parts

operations = Operations()


def parts() -> Parts:
    found: Parts = current_app.extensions["reed"]
    return found
