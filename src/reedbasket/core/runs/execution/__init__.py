"""Executing a run: tables are read, shaped and loaded into one warehouse or several."""
