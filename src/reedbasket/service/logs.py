"""The service's own log as JSON, one object on each line, for log collectors."""

from __future__ import annotations

import json
import logging
from datetime import UTC, datetime


class JsonLines(logging.Formatter):
    """{at, level, logger, message, and further facts: feed, run}"""

    def format(self, record: logging.LogRecord) -> str:
        """A line of JSON."""
        facts = {
            "at": datetime.fromtimestamp(record.created, UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z"),
            "level": record.levelname.lower(),
            "logger": record.name,
            "message": record.getMessage(),
            **getattr(record, "facts", {}),
        }
        if record.exc_info:
            facts["exception"] = self.formatException(record.exc_info)
        return json.dumps(facts, ensure_ascii=False, default=str)
