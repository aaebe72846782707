"""SDMX-JSON 1.0 data messages (https://github.com/sdmx-twg/sdmx-json): an observation a row, with the names of its dimensions."""

from collections.abc import Iterator
from typing import Any

from reedbasket.kit import Connector, Position, Setting, Table, Url


class Sdmx(Connector):
    """Observations of one flow of an SDMX service."""

    url: Url
    flow: str = Setting(description="which flow, as the service names it", example="TIDES")
    key: str = Setting("all", description="which of its series", example="M.OSQ")

    observations = Table(primary_key="key")

    def read_observations(self, position: Position) -> Iterator[list[dict[str, Any]]]:
        """Observations changed since."""
        accept = {"accept": "application/vnd.sdmx.data+json;version=1.0.0"}
        said = self.http.get(
            f"/data/{self.flow}/{self.key}", {"dimensionAtObservation": "AllDimensions"}, headers=accept
        ).json()["data"]
        dimensions = said["structure"]["dimensions"]["observation"]
        attributes = said["structure"]["attributes"]["observation"]
        for part in said["dataSets"]:
            yield [_row(places, values, dimensions, attributes) for places, values in part["observations"].items()]


def _row(places: str, values: list[Any], dimensions: list[dict[str, Any]], attributes: list[dict[str, Any]]) -> dict[str, Any]:
    chosen = [dimension["values"][int(place)] for dimension, place in zip(dimensions, places.split(":"))]
    row = {dimension["id"]: value["id"] for dimension, value in zip(dimensions, chosen)}
    row |= {f"{dimension['id']}_name": value.get("name") for dimension, value in zip(dimensions, chosen)}
    for attribute, place in zip(attributes, values[1:]):
        row[attribute["id"]] = attribute["values"][place]["id"] if place is not None else None
    return {"key": ".".join(value["id"] for value in chosen), "value": values[0], **row}
