"""That a coefficient mixes what goes with the outcome within clusters and between them, or early and late beginnings."""

from __future__ import annotations

import math

from markbase.core.checks.negative_weights import Weighed
from markbase.core.checks.within_clusters import Mixed
from markbase.core.design.terms import Term
from markbase.core.formatting import as_percent, decimals_for, figures_of, number, p_phrase
from markbase.core.reading.clauses import is_share
from markbase.core.results.any_fit import AnyFit


def about_mixture(fit: AnyFit, term: Term, found: Mixed) -> list[str]:
    """Say of a term how it goes with the outcome within clusters, and how between them, where these clearly differ."""
    ratios = fit.family.ratios
    if found.joint is not None:
        j = found.joint
        way = (
            "As numbers, 0 and 1, centred within it they tell" if ratios else f"Fixed effects of `{found.cluster}` tell"
        )
        return [
            f"It mixes two things: within one `{found.cluster}` its levels go with the outcome otherwise than, between them, their shares do "
            f"({figures_of(j.statistic, j.df, j.df_rest, j.kind)}, {p_phrase(j.p)}). {way} the first alone."
        ]
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


def about_weights(term: Term, found: Weighed) -> list[str]:
    """Say of a difference between two levels that it counts rows of one of them with a negative weight."""
    value = f"`{term.name}` {'' if term.is_categorical else '= '}`{found.level}`"
    return [
        f"{as_percent(found.share)} of the rows with {value} count in it with a negative weight ({number(found.negative, 2)} together, beside "
        f"{number(1 - found.negative, 2)}), as where it begins at several times: if the difference is not the same in all of them (one that grows with time), "
        f"this number may lie outside all of theirs. To compare those of one beginning with those who have none yet, a fit for each, avoids it."
    ]


def _told(fit: AnyFit, value: float) -> str:
    if fit.family.ratios:
        value = math.exp(min(value, 700.0))
    elif is_share(fit.outcome):
        value *= 100
    return number(value, decimals_for(abs(value) / 10)) if value else "0"
