"""A schema of a PostgreSQL database as a warehouse: rows go in by ADBC's binary COPY, everything else is psycopg and SQL."""
