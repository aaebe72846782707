"""What is needed to run a connector in Python."""

from __future__ import annotations

from pydantic import Field

from .fields import Model


class Code(Model):
    """A connector's code.

    Attributes:
        entry: the file, the name under which an installed package publishes it, or `package.module:Class`.
        program: the file's text; None for installed code.
        memory_limit: of its process, in MB.
        idle_timeout: for how many seconds it may yield nothing.
    """

    entry: str
    program: str | None = None
    memory_limit: int = Field(400, ge=100, le=16_000)
    idle_timeout: float = 120.0
