"""The client library: every call of the service, typed.

May import: wire, for types only. Speaks HTTP and nothing else.
"""

from .client import Client
from .errors import ServiceProblem, ServiceUnreachable
from .find import find_client

__all__ = ["Client", "ServiceProblem", "ServiceUnreachable", "find_client"]
