"""Benchmarks: each beside what a good engineer would write by hand, run in turn in one call, reported as a ratio."""
