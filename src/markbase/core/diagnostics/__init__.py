"""Diagnostics of outcomes against fitted values: the shape of residuals, serial order, classification, calibration.

In come arrays; out come figures. Nothing here knows what a fit is.
"""
