"""What each kind has to provide, as tests that its author runs: a module for each seam, with a class for pytest to subclass.

May import: core. The service does not import it; it needs pytest and nothing else.
"""
