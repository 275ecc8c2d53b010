"""Correlation, inflation, overlap and pruning."""
