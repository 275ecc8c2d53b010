"""Estimates: least squares and maximum likelihood, exact collinearity and separation.

In come terms and moments of a design; out go coefficients with a factor of their covariance, or a refusal in words that
names the columns that fix one another, or the rows in which the outcome is foretold without exception.
"""
