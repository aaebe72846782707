"""Whether a run that says "succeeded" has brought what the source holds: made-up sources with faults, and an oracle of its own.

world.py is what the source truly holds; serving.py serves it over HTTP as a declaration says; faults.py spoils answers; oracle.py
reads the warehouse with the engine's own driver. None of the four imports the product. history.py plays runs and holds the promises
of docs/guarantees.md against what came. `make truth MINUTES=60` plays new histories for that long.
"""
