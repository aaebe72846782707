"""PostgreSQL as a source."""
