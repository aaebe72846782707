"""What a connector's class says of itself, asked in a process of its own."""

from __future__ import annotations

import threading
from typing import Any

from ...masking import Mask
from ...spec.python_runtime import Code
from .host import CodeHost


def described(code: Code) -> dict[str, Any]:
    """As a connector's YAML would say it. Raises SourceError."""
    return CodeHost(code, doing="reading the description of", mask=Mask(), stop=threading.Event()).describe()
