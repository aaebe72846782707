"""What a connector's class declares, read in a process of its own."""

from __future__ import annotations

import threading
from typing import Any

from ...masking import Mask
from ...spec.python_runtime import Code
from .host import CodeHost


def described(code: Code) -> dict[str, Any]:
    """The declaration, in the form of a connector's YAML.

    Raises:
        SourceError: the code cannot be loaded, or declares something wrong.
    """
    return CodeHost(code, doing="reading the description of", mask=Mask(), stop=threading.Event()).describe()
