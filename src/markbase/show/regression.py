"""A fit of either kind: as a page, and as plain data."""

from __future__ import annotations

from typing import Any

from markbase.core.results.any_fit import AnyFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.results.stored_fit import StoredFit
from markbase.show.fit import fit_page
from markbase.show.logistic import logistic_page
from markbase.show.page import Page
from markbase.show.records import fit_record, logistic_record, stored_record
from markbase.show.stored import stored_page


def regression_page(fit: AnyFit | StoredFit) -> Page:
    """Describe a fit, in its reading order."""
    if isinstance(fit, StoredFit):
        return stored_page(fit)
    return logistic_page(fit) if isinstance(fit, LogisticFit) else fit_page(fit)


def regression_record(fit: AnyFit | StoredFit) -> dict[str, Any]:
    """Return a fit as plain data."""
    if isinstance(fit, StoredFit):
        return stored_record(fit)
    return logistic_record(fit) if isinstance(fit, LogisticFit) else fit_record(fit)
