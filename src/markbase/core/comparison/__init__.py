"""Several fits held beside one another on the same rows: blocks, variants, elimination, cross-validation, bootstrap.

In come fits, or the terms of blocks; out come tables of change with their tests and what must be read with them.
"""
