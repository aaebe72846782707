"""Doing a run: tables read, shaped and loaded, for one warehouse or several."""
