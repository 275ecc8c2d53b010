"""Codebooks in the standards of data archives: DDI-Codebook, Table Schema and Data Package, CSVW, and a plain table.

Each module reads the text of a file into the nested mappings that `Codebook.from_mapping` takes, and writes a codebook as
such a text. What a standard has no place for goes into a field of ours, which is called ``markbase``; read again, nothing
is lost.
"""
