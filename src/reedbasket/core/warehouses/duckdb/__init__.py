"""A DuckDB file as a warehouse. One process may write to it, so it is open only while a load commits."""
