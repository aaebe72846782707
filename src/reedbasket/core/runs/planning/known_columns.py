"""What is known of the columns of files whose values are text."""

from __future__ import annotations

from typing import Any

from ...records.names import fold
from ...sources.files.formats.text_types import TextKind

# Kinds that text is read as where the feed casts to them; others take what the text shows, and are cast then.
_CAST_AS_READ = ("bool", "int64", "double", "text", "date")


class KnownColumns(dict[str, TextKind]):
    """What is known of columns, with what the feed casts to; by the field's name."""

    def __init__(self, known: dict[str, TextKind], cast: dict[str, Any]) -> None:
        super().__init__(known)
        self._cast = {name: TextKind(kind) for name, kind in cast.items() if kind in _CAST_AS_READ}

    def get(self, name: str, default: Any = None) -> Any:
        """The kind of a column: as the feed casts it, else as it was learned."""
        wanted = self._cast.get(fold(name)) if self._cast else None
        return wanted or super().get(name, default)
