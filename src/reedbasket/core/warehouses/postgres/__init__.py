"""A schema of a PostgreSQL database as a warehouse: rows are loaded by ADBC's binary COPY, everything else is psycopg and SQL."""
