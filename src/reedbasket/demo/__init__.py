"""Sedge Ferries: made-up sources that behave like real ones, and the guided start.

May import: service, client. Data is generated from a fixed seed, so that figures in the docs can be checked.
"""
