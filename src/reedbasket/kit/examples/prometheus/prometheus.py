"""The HTTP API of Prometheus: samples of a query an hour at a time, what is scraped, and what each metric means."""

import json
from collections.abc import Iterator
from datetime import UTC, datetime
from typing import Any

from reedbasket.kit import Connector, Position, Setting, Table, Time, Url


class Prometheus(Connector):
    """Samples, targets and metadata of a Prometheus server."""

    url: Url
    query: str = Setting("up", description="what samples are of, in PromQL", example="rate(http_requests_total[5m])")
    step: int = Setting(60, description="seconds between two samples")
    since: Time = Setting("2026-01-01T00:00:00Z", description="where the first hour begins")
    base_url = "{settings.url}/api/v1"

    samples = Table(primary_key=("series", "at"), window="1h", from_="{settings.since}")
    targets = Table(primary_key=("scrape_pool", "url"))
    metrics = Table(primary_key=("metric", "type"))

    def read_samples(self, position: Position) -> Iterator[list[dict[str, Any]]]:
        """Samples of the queries within a window."""
        assert position.window is not None
        begin, end = (moment.timestamp() for moment in position.window)
        found = self.http.get("/query_range", {"query": self.query, "start": begin, "end": end - 1, "step": self.step}).json()
        for series in found["data"]["result"]:
            labels = json.dumps(series["metric"], sort_keys=True)
            yield [{"series": labels, "at": _moment(at), "value": value, **series["metric"]} for at, value in series["values"]]

    def read_targets(self, position: Position) -> Iterator[dict[str, Any]]:
        """What is scraped by now."""
        for one in self.http.get("/targets").json()["data"]["activeTargets"]:
            yield {"scrape_pool": one["scrapePool"], "url": one["scrapeUrl"], "health": one["health"], **one["labels"]}

    def read_metrics(self, position: Position) -> Iterator[dict[str, Any]]:
        """What each metric is."""
        for metric, all_of_it in self.http.get("/metadata").json()["data"].items():
            yield from ({"metric": metric, **{name: one[name] for name in ("type", "help", "unit")}} for one in all_of_it)


def _moment(seconds: float) -> str:
    return datetime.fromtimestamp(float(seconds), UTC).isoformat()
