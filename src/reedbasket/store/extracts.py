"""Extracts that runs have written: folders below the data folder."""

from __future__ import annotations

import json
import re
import shutil
from pathlib import Path

from .. import wire
from ..core.errors import NotFound
from ..core.extracts import MANIFEST
from ..wire.typed import typed
from .database import Store

_FOLDER = "extracts"
_NAME = re.compile(r"[a-z0-9][a-z0-9_-]*-[0-9]+")


def folder_of(store: Store, feed: str, run: int) -> Path:
    """Where a run's extract is."""
    return store.folder / _FOLDER / f"{feed}-{run}"


def listed(store: Store) -> list[wire.Extract]:
    """The manifests of complete extracts with their names, the latest first."""
    found = []
    for path in (store.folder / _FOLDER).glob(f"*/{MANIFEST}"):
        manifest = json.loads(path.read_text("utf-8"))
        found.append(typed(wire.Extract, manifest, name=path.parent.name))
    return sorted(found, key=lambda one: one["run"], reverse=True)


def file_of(store: Store, name: str, file: str) -> Path:
    """The path of one file of an extract.

    Raises:
        NotFound: there is no such extract or file.
    """
    path = store.folder / _FOLDER / name / file
    # Names come from outside, and lead nowhere else.
    if not _NAME.fullmatch(name) or Path(file).name != file or file.startswith(".") or not path.is_file():
        raise NotFound(
            "reading the extract", f"{name}/{file}", found="no such file", fix="see `reed extracts`", code="extract.not_found"
        )
    return path


def remove(store: Store, name: str) -> None:
    """Remove an extract.

    Raises:
        NotFound: there is no such extract.
    """
    shutil.rmtree(file_of(store, name, MANIFEST).parent)
