"""Reading over HTTP: requests, pagination, sending, and the reader that combines them."""

from .reader import HttpReader
from .sender import Sender

__all__ = ["HttpReader", "Sender"]
