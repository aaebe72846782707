"""How far a table has been read, as it is saved with the rows it covers."""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Literal


@dataclass(frozen=True)
class SavedCursor:
    """How far a table has been taken: the highest value committed, as text, and what it is a value of. Of windows it is the end of
    the last; a tag is what a whole answer is known by (ETag), with what it was asked and taken with in place of the column; of a log a
    position in it, as the database writes it, with what the table looked like in place of the column; of files the last one taken, with
    how they are written; of a connector in Python what it saves, as JSON.

    seen: 8-byte digests, one after the other, of the records within the overlap of that value; None where they were too
    many to keep (a merge recognises them by itself). column: of the source; None where an older version did not say.
    """

    kind: Literal["time", "number", "text", "window", "tag", "row_version", "cdc", "ranges", "files", "saved"]
    value: str
    seen: bytes | None = b""
    column: str | None = None

    @property
    def shown(self) -> str:
        """The value as people read it."""
        if self.kind == "files":
            return str(json.loads(self.value)["last"])
        if self.kind != "ranges":
            return self.value.partition(" without ")[0]
        below = json.loads(self.value)["below"]
        return f"all {self.column}" if below is None else f"{self.column} below {below}"
