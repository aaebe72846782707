"""One run of one feed as a worker does it, in this process: what the api-* cases have in common."""

from __future__ import annotations

import json
import time
from pathlib import Path
from typing import Any


def prepared(folder: Path, text: str, known: dict[str, str] | None = None, program: str = "") -> None:
    """A data folder with a basket applied, in a process that has begun as a worker's does. known: secrets. program: of a connector in
    Python, `bench.py`."""
    from reedbasket.core.sources.python.description import described
    from reedbasket.core.spec import load_texts
    from reedbasket.store import Store, definitions, secrets

    store = Store(folder)
    store.upgrade()
    for name, value in (known or {}).items():
        secrets.set_secret(store, name, value)
    definitions.apply(store, load_texts({"bench.yaml": text, "bench.py": program}, describe=described))


def run(folder: Path, feed: str, *, may_fail: bool = False) -> float:
    """Seconds from asking for the run to its outcome."""
    from reedbasket.service.worker import Worker
    from reedbasket.store import Store, runs

    store = Store(folder)
    number = runs.ask(store, runs.RunRequest(feed, 1))
    runs.take(store, number, 0)
    worker = Worker(folder, [Path("/")])
    worker.prepare()
    began = time.perf_counter()
    worker._run(number)
    seconds = time.perf_counter() - began
    assert may_fail or runs.outcome(store, number) == "succeeded", runs.get(store, number)
    return seconds


def basket(
    url: str, tables: str, feeds: str, *, pace: str = "{concurrency: 8}", warehouse: dict[str, Any] | None = None
) -> str:
    """tables: of the connector, feeds: documents, both as YAML."""
    where = json.dumps({"warehouse": "marsh", **(warehouse or {"type": "sqlite", "path": "marsh.db"})})
    return f"""
connector: bench-api
type: http
settings: {{url: {{type: url}}}}
base_url: "{{settings.url}}"
rate_limit: {pace}
tables:
{tables}
---
source: bench
connector: bench-api
settings: {{url: "{url}"}}
---
{where}
---
{feeds}
"""
