"""The versions of the package and of its results, as these name them."""

VERSION = "0.1.0"
FORMAT_VERSION = 1
"""Of the results for machines: a later one may hold more, and nothing else by the same name."""
