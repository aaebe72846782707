"""SQLite as a warehouse, through the standard library's sqlite3."""
