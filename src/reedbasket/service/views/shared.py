"""What all views share: the list of operations, and the parts of the running service."""

from __future__ import annotations

from flask import current_app

from ..operations import Operations
from ..parts import Parts

operations = Operations()


def parts() -> Parts:
    found: Parts = current_app.extensions["reed"]
    return found
