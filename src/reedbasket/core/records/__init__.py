"""The values that travel between a source and a warehouse: chunks of records, columns and their types, a table's structure, ledger lines.

May import: core.errors.
"""
