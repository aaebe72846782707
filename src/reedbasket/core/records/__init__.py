"""The data that travels from a source to a warehouse: chunks of records, columns and their types, a table's structure, ledger lines.

May import: core.errors.
"""
