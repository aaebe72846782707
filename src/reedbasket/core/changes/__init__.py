"""How changes are found: what each method saves as its position, where it reads from, and how it recognises what it has read.

May import: core.errors, core.records, core.spec, core.shaping, core.sources, core.warehouses.
"""
