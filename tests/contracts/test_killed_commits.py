"""A warehouse whose changes of tables commit by themselves, killed before each statement of each way to commit: readers see what was, or
what is to be, and the next run ends as if nothing had happened."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any

import pytest
from toy_warehouse import DikeEngine, Killed

from tests.contracts.commits import WAYS, everything, load, seen, version
from tests.support.warehouses import TOY, Place


@pytest.fixture
def killing() -> Any:
    yield
    DikeEngine.dies_at = None


@pytest.mark.parametrize("way", WAYS)
def test_a_commit_killed_anywhere_ends_as_if_it_had_not_been(way: str, tmp_path: Path, killing: None) -> None:
    before, now = WAYS[way]
    start, whole = _place(tmp_path / "start"), _place(tmp_path / "whole")
    if before:
        load(start, before)
        shutil.copytree(start.folder, whole.folder, dirs_exist_ok=True)
    old = seen(start)
    load(whole, now)
    wanted = everything(whole)
    new = seen(whole)
    died, place = 0, start
    while True:
        place = _place(tmp_path / str(died))
        if before:
            shutil.copytree(start.folder, place.folder, dirs_exist_ok=True)
        DikeEngine.dies_at = died
        try:
            load(place, now)
            break
        except Killed:
            pass
        finally:
            DikeEngine.dies_at = None
        where = f"{way}, killed before statement {died}"
        # A table that is new may be there, empty, before its first rows are.
        shown = {table: rows for table, rows in seen(place).items() if rows or table in old}
        moved = before is not None and before[1] != now[1]
        assert shown in (old, new) or moved, where
        if version(place) == version(start):
            load(place, now)
        assert everything(place) == wanted, where
        died += 1
    assert died > 20
    assert everything(place) == wanted


def _place(folder: Path) -> Place:
    folder.mkdir()
    return Place(TOY, folder, None)
