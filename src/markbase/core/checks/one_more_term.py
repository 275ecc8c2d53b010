"""A model asked with one more term: whether something is there that it does not have."""

from __future__ import annotations

from collections.abc import Sequence

from markbase.core.design.terms import Term
from markbase.core.errors import FitError
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.linear import LinearFit


def with_each(fit: AnyFit, more: Sequence[Term]) -> list[AnyFit | None]:
    """Return the model with each of some terms more, on the same rows; None where it cannot be estimated with one, or has no rows left over."""
    if isinstance(fit, LinearFit):
        found = fit._with_each(more) if more else []
        return [own if own is not None and own.rows_over >= 1 else None for own in found]
    return [_with_one(fit, term) for term in more]


def _with_one(fit: AnyFit, term: Term) -> AnyFit | None:
    try:
        found: AnyFit = fit._with_more([term])
    except FitError:
        return None
    return found
