"""SQLite as a source."""
