"""Whether a few rows hold half of what a linear fit leaves unexplained, so that what is told may follow these and not the others."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from markbase.core.diagnostics.residuals import Finding
from markbase.core.errors import count_noun
from markbase.core.formatting import plain
from markbase.core.rows.row_functions import sample_of

if TYPE_CHECKING:
    from markbase.core.results.linear import LinearFit

_HALF, _FEW, _FEWEST = 0.5, 0.02, 50
"""Such a share of the squared residuals in no more than such a share of the rows, of which there are so many at least; of a normal distribution it is in 12%."""


class FarRows(NamedTuple):
    """The few rows furthest from what a fit expects that hold half of its squared residuals."""

    rows: int
    """How many; cases, where rows stand for several."""
    of: int
    """Of how many that were looked at."""
    low: float
    """The lowest value of the outcome in them."""
    high: float
    """The highest."""
    above: bool
    """Whether it is higher in all of them than the fit expects."""
    some: bool
    """Whether those looked at were taken at random, of very many, or of rows in parts."""


def few_far_rows(fit: LinearFit) -> FarRows | None:
    """Return the few rows that hold half of the squared residuals of a linear fit; None where they are not few. Of very many rows some are looked at."""
    some: LinearFit | None = None if fit.exact else fit._on_some
    if some is None or some.exact:
        return None
    rows = some.rows_used
    y, e = (sample_of(values[rows.inside]) for values in (some.outcome.values, some._residuals))
    each, cases = e**2, np.ones(len(y)) if rows.times is None else sample_of(rows.times[rows.inside])
    if some.weights is not None and rows.times is None:
        each = each * sample_of(some.weights.values[rows.inside])
    half, most = _HALF * float(each @ cases), _FEW * float(cases.sum())
    if cases.sum() < _FEWEST:
        return None
    order = np.argsort(-each, kind="stable")
    held = np.cumsum((each * cases)[order])
    k = int(np.searchsorted(held, half))
    counted = float(cases[order[:k]].sum()) + float(np.ceil((half - (held[k - 1] if k else 0.0)) / each[order[k]]))
    if counted > most:
        return None
    far = order[: k + 1]
    ends, above = (float(y[far].min()), float(y[far].max())), bool((e[far] > 0).all())
    return FarRows(int(counted), int(cases.sum()), *ends, above, len(y) < fit.sample.used)


def where_they_are(fit: LinearFit, found: FarRows) -> str:
    """Say how many rows of how many, and what the outcome is in them."""
    name, low, high = fit.outcome.name, plain(found.low, 4), plain(found.high, 4)
    values = f"`{name}` is {low} there" if found.low == found.high else f"`{name}` from {low} to {high} there"
    return f"{found.rows:,} of {count_noun(found.of, 'row')}{' taken at random' if found.some else ''} ({values})"


def few_rows_findings(fit: LinearFit) -> list[Finding]:
    """Say in a check that a few rows hold half of the squared residuals; nothing where they do not."""
    found = few_far_rows(fit)
    if found is None:
        return []
    meaning = "estimates may follow these, and what the others say may not show"
    return [
        Finding(
            "few rows",
            f"half of the squared residuals is in {where_they_are(fit, found)}",
            meaning,
            "see whether they are right",
        )
    ]
