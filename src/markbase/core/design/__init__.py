"""What a model is made of: rows, terms, codings, and the moments one pass over the rows leaves behind.

In come a prepared study and the names of columns and terms; out go the complete cases, the terms with the levels that
occur in them, their sums of squares and products, and the map from inner columns to the coefficients an analyst reads.
"""
