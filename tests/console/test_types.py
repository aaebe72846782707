"""What is made from code must be as the code is now."""

from __future__ import annotations

import importlib.util
from pathlib import Path

ROOT = Path(__file__).parents[2]


def test_the_consoles_types_are_made_from_the_service() -> None:
    spec = importlib.util.spec_from_file_location("make_types", ROOT / "console" / "make_types.py")
    assert spec is not None
    assert spec.loader is not None
    made = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(made)
    assert made.TARGET.read_text() == made.render(), "run `make console`"
