"""How well a fit does: classification, calibration, cases."""
