"""Reading over HTTP: requests, pages, sending, and the reader that joins them."""

from .reader import HttpReader
from .sender import RequestSeen, Sender

__all__ = ["HttpReader", "RequestSeen", "Sender"]
