"""The service with a clock that jumps: the scheduler's moments come from the system's clock and as many seconds as a file says.

`python -m tests.faults.jumping_service FOLDER OFFSET_FILE MAIL_SERVER`
"""

from __future__ import annotations

import sys
from datetime import UTC, datetime, timedelta
from pathlib import Path

from reedbasket.service.serve import Service, quiet_logs, stop_on_signals
from reedbasket.service.settings import Settings


def main(folder: str, offset: str, mail: str) -> None:
    def clock() -> datetime:
        try:
            seconds = float(Path(offset).read_text() or 0)
        except (OSError, ValueError):
            seconds = 0.0
        return datetime.now(UTC) + timedelta(seconds=seconds)

    quiet_logs()
    service = Service(
        Settings(Path(folder), port=0, mail_server=mail, mail_tls="none", mail_to="data@sedge.example", grace_seconds=1)
    )
    service.scheduler._clock = clock
    service.start()
    stop_on_signals(service)
    print(service.url, flush=True)
    service.serve()


if __name__ == "__main__":
    main(*sys.argv[1:])
