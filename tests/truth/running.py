"""Runs of the feed `truth`: in this process, or in one that is to be killed; and what they tell."""

from __future__ import annotations

import multiprocessing
import threading
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from reedbasket.core.allowed_paths import Places
from reedbasket.core.records.column_records import value_at
from reedbasket.core.runs import ResolvedRun, RunContext, TableProgress, resolve, run_feed
from reedbasket.core.runs.events import DeletedKeys
from reedbasket.core.shaping import Reject
from reedbasket.core.sources.pacer import LocalPacer
from reedbasket.core.spec import load_texts
from tests.support.feeds import SECRETS, Heard
from tests.truth.scene import Scene

STARTED = datetime(2027, 1, 1, tzinfo=UTC)
processes = multiprocessing.get_context("forkserver")
processes.set_forkserver_preload(["tests.truth.running"])

# By warehouse: what was rejected, with the run and the file's number.
Rejects = dict[str, list[tuple[Any, int, int]]]


class Listening(Heard):
    """kept: rejects that could be replayed, kept and forgotten as the service does."""

    def __init__(self, scene: Scene, kept: Rejects, run: int) -> None:
        super().__init__()
        self._scene, self._begun, self._kept, self._run = scene, False, kept, run

    def rejects(self, table: str, rejects: Sequence[Reject], warehouse: str = "") -> None:
        super().rejects(table, rejects, warehouse)
        # What was no record at all is not given once more.
        found = [r for r in rejects if isinstance(r.record, dict) and not r.code.startswith("record.")]
        self._kept.setdefault(warehouse, []).extend((r.record, self._run, r.file or 0) for r in found)

    def saw_all_records(self, table: str, warehouse: str = "") -> None:
        self._kept[warehouse] = [one for one in self._kept.get(warehouse, []) if one[1] == self._run]

    def rows_deleted(self, table: str, key: Sequence[str], keys: DeletedKeys | None, warehouse: str = "") -> None:
        left = keys() if keys is not None else None
        held = self._kept.get(warehouse, [])
        self._kept[warehouse] = [
            one for one in held if left is not None and tuple(str(value_at(one[0], name)) for name in key) not in left
        ]

    def progress(self, progress: TableProgress) -> None:
        super().progress(progress)
        if progress.phase == "reading" and not self._begun:
            self._begun = True
            self._scene.meanwhile()


def order_of(text: str, run: int) -> ResolvedRun:
    started = STARTED + timedelta(hours=run)
    return resolve(load_texts({"truth.yaml": text}), "truth", run=run, version=1, started=started)


def run_context_of(order: ResolvedRun, folder: Path) -> RunContext:
    return RunContext(
        lambda name: SECRETS.get(name, ""),
        Places.anywhere(folder),
        LocalPacer(order.rate_limit, order.retry),
        threading.Event(),
    )


def run_to_be_killed(text: str, run: int, folder: str, secrets: dict[str, str]) -> None:
    SECRETS.update(secrets)
    order = order_of(text, run)
    run_feed(order, run_context_of(order, Path(folder)), listener=Heard(), clock=lambda: datetime.now(UTC))
