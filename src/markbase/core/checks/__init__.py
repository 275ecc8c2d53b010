"""Whether a fit can be trusted: its residuals, its cases, and how well it classifies and is calibrated.

In comes a fit; out come figures with what each means and what would do.
"""
