"""The computation: definitions, extraction, shaping, loading, running one feed.

May import: nothing else of ours. Knows no Flask, no argparse, no store, and no clock of its own (time is passed in).
"""
