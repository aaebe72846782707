"""Write a connector in Python: a class derived from `Connector`, with its settings, its tables, and how they are read.

It runs in a process of its own, which gets the settings of its source and nothing else. Its requests are sent by the worker, with pace,
retries, authentication and the log of requests included. See docs/authoring.md. May import: core.
"""

from .connector import Connector, Failed, Log, Position, Saved, Secret, Setting, Table, Time, Url
from .http import Answer, Http

__all__ = ["Answer", "Connector", "Failed", "Http", "Log", "Position", "Saved", "Secret", "Setting", "Table", "Time", "Url"]
