"""What runs a connector that is Python."""

from __future__ import annotations

from pydantic import Field

from .fields import Model


class Code(Model):
    """entry: the file, the name that an installed package publishes it by, or `package.module:Class`; program: the file's text, None of
    what is installed. memory_limit: that its process may take, in MB; idle_timeout: seconds for which it may say nothing."""

    entry: str
    program: str | None = None
    memory_limit: int = Field(400, ge=100, le=16_000)
    idle_timeout: float = 120.0
