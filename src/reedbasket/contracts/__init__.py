"""What a kind has to keep to, as tests that its author runs: one module a seam, each with a class for pytest to subclass.

May import: core. Not imported by the service; pytest is wanted, and nothing else.
"""
