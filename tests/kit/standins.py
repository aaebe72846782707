"""Small servers of two open standards for which no packaged one was found: as much of each as its connector asks for."""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta
from typing import Any

from reedbasket.demo.ferries import VESSELS
from tests.support.source import Answer, Request

TOKEN = "otter"
_BEGIN = datetime(2026, 3, 1, tzinfo=UTC)
BOATS = [
    {
        "BoatId": n,
        "Name": VESSELS[n % len(VESSELS)],
        "ChangedAt": (_BEGIN + timedelta(minutes=n)).isoformat().replace("+00:00", "Z"),
    }
    for n in range(250)
]


BERTHS = [{"Quay": quay, "Place": place, "Depth": 2.5 + place} for quay in ("OSQ", "EEL") for place in range(4)]
_METADATA = """<?xml version="1.0" encoding="utf-8"?>
<edmx:Edmx Version="4.0" xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx"><edmx:DataServices>
<Schema Namespace="Marsh" xmlns="http://docs.oasis-open.org/odata/ns/edm">
  <EntityType Name="Thing" Abstract="true"><Property Name="ChangedAt" Type="Edm.DateTimeOffset"/></EntityType>
  <EntityType Name="Boat" BaseType="Marsh.Thing"><Key><PropertyRef Name="BoatId"/></Key>
    <Property Name="BoatId" Type="Edm.Int64" Nullable="false"/><Property Name="Name" Type="Edm.String"/></EntityType>
  <EntityType Name="Berth"><Key><PropertyRef Name="Quay"/><PropertyRef Name="Place"/></Key>
    <Property Name="Quay" Type="Edm.String"/><Property Name="Place" Type="Edm.Int32"/>
    <Property Name="Depth" Type="Edm.Double"/></EntityType>
  <EntityContainer Name="Service">
    <EntitySet Name="Boats" EntityType="Marsh.Boat"/><EntitySet Name="Berths" EntityType="Marsh.Berth"/></EntityContainer>
</Schema></edmx:DataServices></edmx:Edmx>"""


def odata(request: Request) -> Answer:
    """OData v4.01: its metadata, two entity sets, $filter with ge, $orderby, server-driven pages by @odata.nextLink."""
    if request.headers.get("authorization") != f"Bearer {TOKEN}":
        return Answer({"error": {"code": "Unauthorized", "message": "who are you?"}}, 401)
    if request.path == "/odata/$metadata":
        return Answer(raw=_METADATA.encode(), headers={"Content-Type": "application/xml"})
    name = request.path.removeprefix("/odata/")
    wanted = re.fullmatch(r"ChangedAt ge (\S+)", request.query.get("$filter", "ChangedAt ge 0"))
    if name not in ("Boats", "Berths") or wanted is None or (name == "Berths" and "$filter" in request.query):
        return Answer({"error": {"code": "BadRequest", "message": request.path}}, 400)
    found = BERTHS if name == "Berths" else [boat for boat in BOATS if str(boat["ChangedAt"]) >= wanted[1]]
    start = int(request.query.get("$skiptoken", 0))
    body: dict[str, Any] = {"@odata.context": f"$metadata#{name}", "value": found[start : start + 100]}
    if start + 100 < len(found):
        body["@odata.nextLink"] = f"Boats?$filter=ChangedAt%20ge%20{wanted[1]}&$skiptoken={start + 100}"
    return Answer(body, headers={"OData-Version": "4.01"})


def sdmx(request: Request) -> Answer:
    """An SDMX-JSON 1.0 data message with all dimensions at the observation."""
    if request.path != "/data/TIDES/all":
        return Answer({"errors": [{"code": 404, "title": "no such flow"}]}, 404)
    landings = [{"id": "OSQ", "name": "Osier Quay"}, {"id": "EEL", "name": "Eelstairs"}]
    days = [{"id": f"2026-03-{day:02d}", "name": f"{day} March 2026"} for day in range(1, 31)]
    observations = {
        f"{a}:{b}": [round(1.5 + (a + b) % 7 * 0.31, 2), b % 2 if b % 5 else None] for a in range(2) for b in range(30)
    }
    structure = {
        "dimensions": {"observation": [{"id": "LANDING", "values": landings}, {"id": "TIME_PERIOD", "values": days}]},
        "attributes": {
            "observation": [{"id": "OBS_STATUS", "values": [{"id": "A", "name": "measured"}, {"id": "E", "name": "estimated"}]}]
        },
    }
    data = {"structure": structure, "dataSets": [{"action": "Information", "observations": observations}]}
    return Answer({"meta": {"id": "T1"}, "data": data, "errors": []})
