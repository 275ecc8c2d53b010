"""What is to be read with clusters: that a coefficient mixes what is so within them and between them, and errors clustered two ways."""

from __future__ import annotations

import math

import numpy as np

from markbase.core.checks.negative_weights import Weighed
from markbase.core.checks.within_clusters import Mixed
from markbase.core.design.terms import Term
from markbase.core.errors import listed
from markbase.core.formatting import as_percent, decimals_for, figures_of, number, p_phrase
from markbase.core.reading.clauses import is_share
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.coefficient_rows import label_of
from markbase.core.results.stored_fit import StoredFit

_SMALLER, _MOST_NAMED = 0.95, 4
"""So much smaller than clustered one way, errors clustered two ways are told to be; and so many coefficients are named."""


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


def smaller_two_ways(fit: AnyFit | StoredFit) -> list[str]:
    """Say of each coefficient of which the error is smaller clustered two ways than one way how large both are; none of other fits."""
    crossed = fit.errors.crossed
    if crossed is None:
        return []
    rows, told = fit.coefficient_rows, []
    alone = np.sqrt(np.einsum("ij,kjl,il->ki", rows.roots, crossed.alone, rows.roots))
    larger, which = alone.max(axis=0), alone.argmax(axis=0)
    with np.errstate(invalid="ignore"):
        smaller = np.flatnonzero(rows.se < _SMALLER * larger)
    for k in smaller:
        row, decimals, kind = fit.coefficient_map.rows[k], decimals_for(float(rows.se[k])), fit.errors.by[which[k]].name
        one, two = (number(float(se), decimals) for se in (larger[k], rows.se[k]))
        told.append(f"`{label_of(row.term, row.compared.level)}` ({one} by `{kind}`, {two} here)")
    return told


def about_crossed(fit: AnyFit | StoredFit) -> str:
    """Say of errors clustered two ways for which coefficients they are smaller than clustered one way, or were no variance; empty for neither."""
    told, crossed = smaller_two_ways(fit), fit.errors.crossed
    more = [f"{len(told) - _MOST_NAMED} more"] if len(told) > _MOST_NAMED else []
    larger = f"Clustered one way errors are larger for {listed([*told[:_MOST_NAMED], *more])}: go by the larger there"
    below = "In some combinations of coefficients they leave less than no variance, which is taken as none"
    return ". ".join([larger] * bool(told) + [below] * (crossed is not None and crossed.below))


def _told(fit: AnyFit, value: float) -> str:
    if fit.family.ratios:
        value = math.exp(min(value, 700.0))
    elif is_share(fit.outcome):
        value *= 100
    return number(value, decimals_for(abs(value) / 10)) if value else "0"
