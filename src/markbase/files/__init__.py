"""Data files, codebooks and plans: open formats in and out."""
