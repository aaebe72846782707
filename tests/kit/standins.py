"""Small servers of two open standards for which no packaged one was found: as much of each as its connector asks for."""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta
from typing import Any

from tests.support.source import Answer, Request

TOKEN = "otter"
_BEGIN = datetime(2026, 3, 1, tzinfo=UTC)
BOATS = [
    {"BoatId": n, "Name": f"boat {n}", "ChangedAt": (_BEGIN + timedelta(minutes=n)).isoformat().replace("+00:00", "Z")}
    for n in range(250)
]


def odata(request: Request) -> Answer:
    """OData v4.01: $filter with ge, $orderby, $count, server-driven pages by @odata.nextLink."""
    if request.headers.get("authorization") != f"Bearer {TOKEN}":
        return Answer({"error": {"code": "Unauthorized", "message": "who are you?"}}, 401)
    wanted = re.fullmatch(r"ChangedAt ge (\S+)", request.query.get("$filter", "ChangedAt ge 0"))
    if request.path != "/odata/Boats" or wanted is None:
        return Answer({"error": {"code": "BadRequest", "message": request.path}}, 400)
    found = [boat for boat in BOATS if str(boat["ChangedAt"]) >= wanted[1]]
    start = int(request.query.get("$skiptoken", 0))
    body: dict[str, Any] = {
        "@odata.context": "$metadata#Boats",
        "@odata.count": len(found),
        "value": found[start : start + 100],
    }
    if start + 100 < len(found):
        body["@odata.nextLink"] = f"Boats?$filter=ChangedAt%20ge%20{wanted[1]}&$skiptoken={start + 100}"
    return Answer(body, headers={"OData-Version": "4.01"})


def sdmx(request: Request) -> Answer:
    """An SDMX-JSON 1.0 data message with all dimensions at the observation."""
    if request.path != "/data/TIDES/all":
        return Answer({"errors": [{"code": 404, "title": "no such flow"}]}, 404)
    landings = [{"id": "OSQ", "name": "Osier Quay"}, {"id": "EEL", "name": "Eel Stairs"}]
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
