"""Computation only: prints nothing, reads no file, draws nothing."""
