"""Fits, frozen: what was estimated and everything that is computed from it.

In come a study, an outcome and terms; out come `LinearFit` and `LogisticFit` with tables of coefficients, joint tests,
group comparisons, marginal means and predictions at full precision.
"""
