"""Typed columns with a codebook and a trail: everything that happens to the data before a model.

In come raw tables and declarations; every step gives a new `Study`, verified by counts, and a line of the trail.
"""
