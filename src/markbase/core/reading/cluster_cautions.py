"""That a coefficient mixes what goes with the outcome within clusters and between them."""

from __future__ import annotations

import math

from markbase.core.checks.within_clusters import Mixed
from markbase.core.design.terms import Term
from markbase.core.formatting import decimals_for, number, p_phrase
from markbase.core.reading.clauses import is_share
from markbase.core.results.any_fit import AnyFit


def about_mixture(fit: AnyFit, term: Term, found: Mixed) -> list[str]:
    """Say of a term how it goes with the outcome within clusters, and how between them, where these clearly differ."""
    ratios = fit.family.ratios
    told = [_told(fit, value) for value in (found.within, found.between)]
    what = "odds ratio" if ratios else "coefficient"
    of = "shares of its levels" if term.is_categorical else "means"
    way = f"Centred within `{found.cluster}` it tells the first alone{'' if ratios else ', as fixed effects do'}"
    if term.is_categorical:
        way = f"Fixed effects of `{found.cluster}` tell the first alone"
    if term.is_categorical and ratios:
        way = f"As a number, 0 and 1, centred within `{found.cluster}` it tells the first alone"
    return [
        f"It mixes two things: within one `{found.cluster}` the {what} is {told[0]}, between them, by their {of}, {told[1]}; the two differ "
        f"({p_phrase(found.p)}). {way}."
    ]


def _told(fit: AnyFit, value: float) -> str:
    if fit.family.ratios:
        value = math.exp(min(value, 700.0))
    elif is_share(fit.outcome):
        value *= 100
    return number(value, decimals_for(abs(value) / 10)) if value else "0"
