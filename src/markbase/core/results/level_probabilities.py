"""The levels of a group in a logistic model: the share of the event that each has, and would have if all else were alike."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.design.terms import Variable
from markbase.core.inference.distributions import p_of_t, t_quantile
from markbase.core.inference.marginal_effects import logit_interval
from markbase.core.results.compared_pairs import pairs_table
from markbase.core.results.group_comparisons import Grouped

Array = NDArray[np.float64]


class AveragedLevels(NamedTuple):
    """The probability of the event, averaged over the rows as if all of them had each level of a group."""

    values: Array
    """Shape (levels,): the probabilities."""
    roots: Array
    """Shape (levels, 1 + p): their derivatives by the inner coefficients, times the root of what these vary (the delta method)."""


def adjusted_probabilities(
    fit: Grouped, term: Variable, averaged: AveragedLevels, at: Mapping[str, float] | None, plain: Array
) -> pd.DataFrame:
    """Tell every level of a group, as `LogisticFit.groups`; `plain` are the shares of its rows as they are."""
    half, (values, roots) = t_quantile(fit.level, fit.df_rest), averaged
    ends = np.array([logit_interval(v, s, half) for v, s in zip(values, fit.inner.se(roots), strict=True)])
    base = np.arange(term.size) == term.base
    difference, se = values - values[term.base], fit.inner.se(roots - roots[term.base])
    with np.errstate(divide="ignore", invalid="ignore"):
        p = np.where(base, np.nan, p_of_t(difference / se, fit.df_rest))
    rows = fit._level_rows(term, at)
    odds = pairs_table(fit, [(v, "") for v in term.labels], rows - rows[term.base], "none", term.size)
    return pd.DataFrame(
        {
            "level": term.labels,
            "base": base,
            "n": fit.rows_used.counts_at((term.name,)),
            "plain": plain,
            "adjusted": values,
            "adjusted_low": ends[:, 0],
            "adjusted_high": ends[:, 1],
            "difference": difference,
            "se": se,
            "low": difference - half * se,
            "high": difference + half * se,
            "p": p,
            "odds_ratio": np.where(base, 1.0, odds["odds_ratio"]),
            "odds_low": np.where(base, 1.0, odds["odds_low"]),
            "odds_high": np.where(base, 1.0, odds["odds_high"]),
            "odds_p": np.where(base, np.nan, odds["p"]),
        }
    )
