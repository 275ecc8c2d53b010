"""How sure: covariances of the estimates, distributions of test statistics, several comparisons at once, marginal effects.

In come estimates and rows; out go standard errors of every kind, p values and quantiles, corrections, and probabilities
averaged over the rows with their derivatives.
"""
