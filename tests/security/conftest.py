"""Warehouses on every engine, for attacks on what runs inside them."""

from __future__ import annotations

from tests.core.conftest import cluster, maria

__all__ = ["cluster", "maria"]
