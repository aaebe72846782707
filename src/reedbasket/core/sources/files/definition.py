"""The definition of a file store as a source."""

from __future__ import annotations

from ...kinds import SourceKind
from ...spec.file_source import FileSource

KIND = SourceKind("Files", FileSource, f"{__package__}.stores.open")
