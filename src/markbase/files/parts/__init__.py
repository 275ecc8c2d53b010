"""Rows that come in parts: from files of any size, or from the workers of a cluster.

What goes in: paths, or a table that is spread over a cluster, and a codebook. What comes out: a `TableInParts` after one look over all
rows, from which a study is made as from any table.
"""
