"""The version of the package, as its results name it."""

VERSION = "0.1.0"
