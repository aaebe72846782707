"""The client library: every call of the service, typed, grouped by what it is about.

    from reedbasket.client import connect

    with connect() as reed:
        print(reed.feeds.run("harbour").wait().outcome)

May import: wire, for types only. Speaks HTTP and nothing else.
"""

from .client import Client
from .errors import ServiceProblem, ServiceUnreachable
from .find import connect
from .runs import Run

__all__ = ["Client", "Run", "ServiceProblem", "ServiceUnreachable", "connect"]
