"""Inspecting a source before there is a feed, and a warehouse after a run: check, survey, preview, verify."""
