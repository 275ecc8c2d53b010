"""Several fits on the same rows: block by block, and variants side by side."""
