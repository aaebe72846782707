"""Connectors that are Python: each runs in a process of its own, which is told what to do and tells what it finds."""
