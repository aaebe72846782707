"""How changes are found: what each change method saves as its position, from where it reads, and how it recognises what it has read.

May import: core.errors, core.records, core.spec, core.shaping, core.sources, core.warehouses.
"""
