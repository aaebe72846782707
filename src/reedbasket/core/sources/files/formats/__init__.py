"""File formats: each reads the records of one file."""
