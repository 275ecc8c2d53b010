"""A fit of any kind."""

from __future__ import annotations

from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit

AnyFit = LinearFit | LogisticFit
