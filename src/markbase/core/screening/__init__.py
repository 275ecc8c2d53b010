"""What predictors have in common before they are fitted together: associations, variance inflation, exact collinearity.

In come a study and columns, or a fit; out comes a `Screen` with bands to look at, never tests, and advice.
"""
