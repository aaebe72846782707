"""What was loaded over time."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Annotated

from pydantic import Field

from ... import wire
from ...store import activity
from ..operations import Query
from .shared import operations, parts


class HoursBack(Query):
    """How far back."""

    hours: Annotated[int, Field(ge=1, le=activity.MOST_HOURS)] = 24


@operations.add(
    "GET",
    "/api/v1/activity",
    "rows loaded during the last hours, in total and by feed",
    query=HoursBack,
)
def read_activity(query: HoursBack) -> wire.Activity:
    return activity.read(parts().store, datetime.now(UTC), query.hours)
