"""A fit of either kind: as a page, and as plain data."""

from __future__ import annotations

from typing import Any

from markbase.core.results.any_fit import AnyFit
from markbase.core.results.logistic import LogisticFit
from markbase.show.fit import fit_page
from markbase.show.logistic import logistic_page
from markbase.show.page import Page
from markbase.show.records import fit_record, logistic_record


def regression_page(fit: AnyFit) -> Page:
    """Describe a fit, in its reading order."""
    return logistic_page(fit) if isinstance(fit, LogisticFit) else fit_page(fit)


def regression_record(fit: AnyFit) -> dict[str, Any]:
    """Return a fit as plain data."""
    return logistic_record(fit) if isinstance(fit, LogisticFit) else fit_record(fit)
