"""Fits in sentences: coefficients, groups, interactions, blocks, equations and the guide, each with its cautions.

In comes a fit; out come statements with the numbers they rest on. Nothing is computed here that a table does not hold.
"""
