"""The levels of a group in a linear model: what each has, as it is and as if all else were alike."""

from __future__ import annotations

from collections.abc import Callable, Mapping

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.design.terms import Variable
from markbase.core.results.compared_pairs import pairs_table
from markbase.core.results.group_comparisons import Grouped

Array = NDArray[np.float64]


def adjusted_means(
    fit: Grouped, group: str, at: Mapping[str, float] | None, plain: Callable[[Variable], Array]
) -> pd.DataFrame:
    """Tell every level of a group, as `LinearFit.groups`; `plain` gives the means of its rows as they are."""
    term = fit.variable(group, "categorical")
    rows = fit._level_rows(term, at)
    setting = fit._setting(at)
    adjusted, _, low, high = fit._adjusted([{**setting, term.name: share} for share in np.eye(term.size)])
    compared = pairs_table(fit, [(v, "") for v in term.labels], rows - rows[term.base], "none", term.size)
    base = np.arange(term.size) == term.base
    return pd.DataFrame(
        {
            "level": term.labels,
            "base": base,
            "n": fit.rows_used.counts_at((term.name,)),
            "plain": plain(term),
            "adjusted": adjusted,
            "adjusted_low": low,
            "adjusted_high": high,
            **{name: np.where(base, 0.0, compared[name]) for name in ("difference", "se", "low", "high")},
            "p": np.where(base, np.nan, compared["p"]),
        }
    )
