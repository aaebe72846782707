"""Reed Basket: pulls records from live sources into warehouse tables, without losing or doubling a row.

Folders are the parts, and imports point downwards only: cli -> client; service -> store, core; core -> nothing of ours.
"""

__version__ = "0.1.0"
