"""Readers: from a source to chunks of records.

May import: core.errors, core.masking, core.spec. Deciding (next page, next pause) is pure; sending and waiting are apart.
"""
