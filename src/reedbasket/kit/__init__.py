"""Write a connector in Python: a class of `Connector`, with its settings, its tables, and how they are read.

It runs in a process of its own, which is given the settings of its source and nothing else, and asks its API through ours: pace, retry,
signing in and the log of requests come with it. See docs/authoring.md.
May import: core.
"""

from .connector import Connector, Failed, Log, Position, Saved, Secret, Setting, Table, Time, Url
from .http import Answer, Http

__all__ = ["Answer", "Connector", "Failed", "Http", "Log", "Position", "Saved", "Secret", "Setting", "Table", "Time", "Url"]
