"""How far a table has been read, as it is saved with the rows it covers."""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Literal


@dataclass(frozen=True)
class SavedCursor:
    """How far a table has been read.

    Attributes:
        kind: what the value is.
        value: the highest committed value, as text; of windows the end of the last; a tag that identifies a whole answer (ETag); a
            position in a change log, as the database writes it; of files the last one loaded; of a connector in Python what it saved, as
            JSON.
        column: of the source; None if an older version did not record it. For a tag it is a fingerprint of the request; for a change log,
            what the table looked like; for files, how they are written.
        seen: 8-byte digests of the records within the overlap of that value, one after the other; None if there were too many to keep (a
            merge recognises them by itself).
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
