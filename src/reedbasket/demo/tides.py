"""The tides stand-in, a reports API: a key in the query, and a report asked for by POST, of one day at most."""

from __future__ import annotations

import math
from datetime import UTC, datetime, timedelta
from typing import Any

from flask import Flask, Response, request

from .serving import as_json

_PHASES = {"OSQ": 0.0, "EEL": 0.3, "TAN": 0.5, "WIT": 0.9, "HER": 1.3, "LOS": 1.6}
MEASURES = ("metres", "flow")
# Two tides in a lunar day of 24 hours and 50 minutes.
_TIDE_SECONDS = 44_714.0


def level(landing: str, at: datetime) -> dict[str, float]:
    """A made-up tide: metres above the gauge, and the flow past it."""
    phase = 2 * math.pi * (at.timestamp() / _TIDE_SECONDS) + _PHASES[landing]
    spring = 1 + 0.3 * math.sin(2 * math.pi * at.timestamp() / (14.77 * 86_400))
    return {"metres": round(3.1 + 2.4 * spring * math.sin(phase), 2), "flow": round(1.9 * spring * math.cos(phase), 3)}


def create_tides(key: str) -> Flask:
    """A service of tide tables, whose reports are made before they are fetched."""
    app = Flask(__name__)

    @app.post("/reports")
    def report() -> Response:
        if request.args.get("key") != key:
            return as_json({"fault": "unknown key"}, 403)
        asked: Any = request.get_json(force=True, silent=True) or {}
        try:
            begin, end = (datetime.fromisoformat(asked["range"][name]).replace(tzinfo=UTC) for name in ("from", "until"))
            measures, landings = list(asked["measures"]), list(asked["landings"])
        except (KeyError, TypeError, ValueError) as error:
            return as_json({"fault": f"a report needs range, measures and landings: {error!r}"}, 400)
        unknown = [name for name in [*measures, *landings] if name not in (*MEASURES, *_PHASES)]
        if unknown or end - begin > timedelta(days=1) or end <= begin:
            return as_json({"fault": f"not known: {unknown}" if unknown else "a report covers a day at most"}, 422)
        hours = int((end - begin).total_seconds() // 3600)
        rows = []
        for hour in range(hours):
            at = begin + timedelta(hours=hour)
            for landing in landings:
                found = level(landing, at)
                rows.append({"landing": landing, "at": at.isoformat(), **{name: found[name] for name in measures}})
        return as_json({"report": {"rows": rows, "hours": hours}})

    return app
