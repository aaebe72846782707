"""Running one feed: what it would do (plan), how far it has got (cursor, windows), doing it (taking, table, feed); and looking at a
source before there is one (look).

May import: core.errors, core.masking, core.spec, core.extract, core.shape, core.load.
"""

from .asking import Outside
from .events import Listener, RunOutcome, TableProgress
from .feed import RunResult, run_feed
from .order import RunOrder, resolve
from .plan import plan_feed
from .verify import verify_feed

__all__ = [
    "Listener",
    "Outside",
    "RunOrder",
    "RunOutcome",
    "RunResult",
    "TableProgress",
    "plan_feed",
    "resolve",
    "run_feed",
    "verify_feed",
]
