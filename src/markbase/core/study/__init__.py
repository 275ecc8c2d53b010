"""Columns, kinds, levels and bases of a study, and the trail of what was done to them."""
