"""Whether a fit can be trusted: residuals, influential cases, classification and calibration.

In come outcomes with fitted values, or a fit; out come figures with what each means and what would do.
"""
