"""Reading over HTTP: requests, pages, sending, and the reader that joins them."""

from .reader import HttpReader
from .sender import Sender

__all__ = ["HttpReader", "Sender"]
