"""For a connector's own tests."""

from __future__ import annotations

import tempfile
from pathlib import Path

from ..core.runs.execution.standalone import opened
from ..core.runs.inspection.connector_check import prove
from ..core.sources.http.recording import Tape


def require_proven(folder: Path, source: str | None = None) -> None:
    """Replays what is recorded in `answers`. Raises AssertionError naming every promise that is broken; NotRecorded."""
    with tempfile.TemporaryDirectory() as scratch:
        alone = opened(
            folder, Path(scratch), lambda name: f"recorded-{name}", source=source, tape=Tape(folder / "answers", "replay")
        )
        broken = [f"{proof.table} {proof.promise}: {proof.found}. {proof.fix}" for proof in prove(alone) if proof.ok is False]
    assert not broken, "\n".join(broken)
