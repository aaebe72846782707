"""Connectors in Python: each runs in a process of its own."""
