"""For a connector's own tests."""

from __future__ import annotations

import tempfile
from pathlib import Path

from ..core.sources.http.recording import Recording
from .connector_check import prove
from .standalone import opened


def require_proven(folder: Path, source: str | None = None) -> None:
    """Check a connector on the answers recorded in `answers`.

    Raises:
        AssertionError: it breaks a promise; all of them are named.
        NotRecorded: a request has no recorded answer.
    """
    with tempfile.TemporaryDirectory() as scratch:
        alone = opened(
            folder, Path(scratch), lambda name: f"recorded-{name}", source=source, tape=Recording(folder / "answers", "replay")
        )
        broken = [f"{proof.table} {proof.promise}: {proof.found}. {proof.fix}" for proof in prove(alone) if proof.ok is False]
    assert not broken, "\n".join(broken)
