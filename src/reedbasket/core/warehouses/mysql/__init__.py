"""A MariaDB or MySQL database as a warehouse."""
