"""Metrics for monitoring: OpenMetrics, made from the store on request, so that they cover all processes."""

from __future__ import annotations

import os
import resource
from collections.abc import Iterator
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from prometheus_client.core import CounterMetricFamily, GaugeMetricFamily, Metric
from prometheus_client.openmetrics.exposition import generate_latest
from prometheus_client.registry import Collector, CollectorRegistry

from .. import __version__
from ..store import Store, definitions, feed_status, schedule
from ..store.database import text_of

if TYPE_CHECKING:
    from .parts import Parts


def exposition(parts: Parts) -> bytes:
    """All metrics in the OpenMetrics format."""
    registry = CollectorRegistry()
    registry.register(_Figures(parts))
    found: bytes = generate_latest(registry)  # type: ignore[no-untyped-call]
    return found


class _Figures(Collector):
    def __init__(self, parts: Parts) -> None:
        self._parts = parts

    def describe(self) -> list[Metric]:
        return []

    def collect(self) -> Iterator[Metric]:
        parts, store = self._parts, self._parts.store
        yield _info()
        yield GaugeMetricFamily("reed_workers_up", "Worker processes ready for runs", value=parts.workers.up())
        yield GaugeMetricFamily("reed_workers_busy", "Worker processes that are running something", value=parts.workers.busy())
        states = GaugeMetricFamily("reed_runs_active", "Runs that are queued or running", labels=["outcome"])
        for outcome in ("queued", "running"):
            count = store.connection.execute("select count(*) from run where outcome = ?", (outcome,)).fetchone()[0]
            states.add_metric([outcome], count)
        yield states
        yield from _of_feeds(store)
        counts = CounterMetricFamily("reed_rows", "Rows written by loads", labels=["feed", "what"])
        ended = CounterMetricFamily("reed_runs", "Runs that ended", labels=["feed", "outcome"])
        for row in store.connection.execute("select feed, what, count from tally order by feed, what"):
            kind, _, name = row["what"].partition(" ")
            (ended if kind == "run" else counts).add_metric([row["feed"], name], row["count"])
        yield ended
        yield counts
        notifications = GaugeMetricFamily("reed_notifications", "Notifications that have not been sent", labels=["state"])
        for state in ("waiting", "undeliverable"):
            count = store.connection.execute("select count(*) from notification where state = ?", (state,)).fetchone()[0]
            notifications.add_metric([state], count)
        yield notifications
        memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024
        yield GaugeMetricFamily("reed_service_peak_memory_bytes", "Peak memory of the service", value=memory)
        size = sum(f.stat().st_size for f in (store.path, store.path.with_name(store.path.name + "-wal")) if f.exists())
        yield GaugeMetricFamily("reed_store_bytes", "Size of the store", value=size)
        free = os.statvfs(store.folder)
        yield GaugeMetricFamily(
            "reed_disk_free_bytes", "Free space where the data folder is", value=free.f_bavail * free.f_frsize
        )


def _info() -> Metric:
    made = GaugeMetricFamily("reed_version", "Always 1; the version is its label", labels=["version"])
    made.add_metric([__version__], 1)
    return made


def _of_feeds(store: Store) -> Iterator[Metric]:
    basket, now, paused = definitions.basket(store), datetime.now(UTC), schedule.paused(store)
    age = GaugeMetricFamily("reed_feed_age_seconds", "Seconds since a run of the feed succeeded", labels=["feed"])
    late = GaugeMetricFamily("reed_feed_late", "1 if that is longer ago than fresh_within", labels=["feed"])
    stopped = GaugeMetricFamily("reed_feed_paused", "1 if the feed is paused", labels=["feed"])
    failing = GaugeMetricFamily("reed_feed_failing", "1 if its last run failed", labels=["feed"])
    rejects = GaugeMetricFamily("reed_feed_rejects", "Rejects that are kept", labels=["feed"])
    health = {r["feed"]: r["failing"] for r in store.connection.execute("select feed, failing from feed_health")}
    for found in feed_status.feed_statuses(store, sorted(basket.feeds)):
        name, within = found.feed, basket.feeds[found.feed].fresh_within
        if found.fresh_at is not None:
            age.add_metric([name], (now - datetime.fromisoformat(found.fresh_at)).total_seconds())
        if within is not None:
            late.add_metric([name], int((found.fresh_at or found.first_applied or "") < text_of(now - within)))
        stopped.add_metric([name], int(name in paused))
        failing.add_metric([name], int(health.get(name, 0)))
        rejects.add_metric([name], found.rejects)
    yield from (age, late, stopped, failing, rejects)
