"""What is known about the columns of files whose values are all text."""

from __future__ import annotations

from typing import Any

from ...records.names import fold
from ...sources.files.formats.text_types import TextKind

# Kinds that text is read as where the feed casts to them; others take what the text shows, and are cast then.
_CAST_AS_READ = ("bool", "int64", "double", "text", "date")


class KnownColumns(dict[str, TextKind]):
    """The types of columns by field name, the feed's casts included."""

    def __init__(self, known: dict[str, TextKind], cast: dict[str, Any]) -> None:
        super().__init__(known)
        self._cast = {name: TextKind(kind) for name, kind in cast.items() if kind in _CAST_AS_READ}

    def get(self, name: str, default: Any = None) -> Any:
        """The type of a column: as the feed casts it, otherwise as it was learned."""
        wanted = self._cast.get(fold(name)) if self._cast else None
        return wanted or super().get(name, default)
