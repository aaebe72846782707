"""Running one feed: what it would do (plan), how far it has got (cursor, windows), doing it (taking, table, feed); and looking at a
source before there is one (look).

May import: everything of core.
"""

from .events import Listener, RunOutcome, TableProgress
from .execution.feed import RunResult, run_feed
from .inspection.plan import plan_feed
from .inspection.verify import verify_feed
from .planning.order import ResolvedRun, resolve
from .request_context import RunContext

__all__ = [
    "Listener",
    "ResolvedRun",
    "RunContext",
    "RunOutcome",
    "RunResult",
    "TableProgress",
    "plan_feed",
    "resolve",
    "run_feed",
    "verify_feed",
]
