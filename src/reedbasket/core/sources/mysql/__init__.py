"""MySQL and MariaDB as a source."""
