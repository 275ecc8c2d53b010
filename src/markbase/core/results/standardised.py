"""Coefficients in standard deviations of the outcome."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd

from markbase.core.design.terms import POWER_MARKS
from markbase.core.formatting import plain, short

if TYPE_CHECKING:
    from markbase.core.results.fit import Fit


def standardised_table(fit: Fit, outcome_sd: float) -> pd.DataFrame:
    """Return the coefficients of a fit as `LinearFit.standardised` has them."""
    rows = fit.coefficient_map.rows[1:]
    table = fit.coefficients.iloc[1:]
    factor, step = [], []
    for told in rows:
        pairs = {name: fit.variable(name, "numeric").column.two_values for name, _ in told.powers}
        sds = [
            pair[1] - pair[0] if (pair := pairs[n]) else fit.rows_used.spread(n)[2] ** power for n, power in told.powers
        ]
        factor.append(math.prod(sds) / outcome_sd)
        words = [
            f"{n} {plain(pair[1])} against {plain(pair[0])}"
            if (pair := pairs[n])
            else f"one standard deviation of {n} ({short(fit.rows_used.spread(n)[2])})"
            for n, power in told.powers
            if power == 1
        ]
        words += [f"{n}{POWER_MARKS[k]} in standard deviations" for n, k in told.powers if k > 1]
        step.append(" and ".join(words) or "difference")
    kept = table[["term", "level", "against", "base"]].assign(step=step)
    return kept.assign(**{k: table[k] * np.array(factor) for k in ("estimate", "low", "high")}).reset_index(drop=True)
