"""Testing whether the probabilities of a logistic fit are what happens, over all rows at once.

References
----------
Hosmer & Lemeshow (1980), Communications in Statistics A9(10), 1043-1069, doi:10.1080/03610928008827941.
Hosmer, Hosmer, le Cessie & Lemeshow (1997), Statistics in Medicine 16(9), 965-980 (on combinations of few values, and on what
such tests miss).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.inference.distributions import p_of_f

Array = NDArray[np.float64]

_FEW = 5
"""Fewer rows of either side than this, expected in a part, make its share of the statistic rough."""
_A_PART, _ROWS_A_COMBINATION = 5, 5
"""Where there are no more combinations a part, and no fewer rows a combination, parts are too coarse, and combinations are tested one by one."""
_DIGITS = 9
"""Log odds that are the same to so many decimals are those of the same combination."""


@dataclass(frozen=True)
class CalibrationTest:
    """Whether probabilities are what happens: a chi-squared of observed against predicted counts."""

    of: str
    """``parts`` of rising probability (Hosmer and Lemeshow), or ``combinations`` of the values of the terms (Pearson)."""
    groups: int
    """How many parts, or combinations."""
    statistic: float
    """Chi-squared; NaN where there is no test."""
    df: int
    """Its degrees of freedom: parts less 2, or combinations less coefficients."""
    p: float
    """Its p value."""
    few: int
    """In how many parts fewer than 5 rows of one side are expected, which makes p rough; 0 of combinations."""
    untested: str = ""
    """Why there is no test; empty if there is."""


def no_test(why: str) -> CalibrationTest:
    """Return that there is no test, and why."""
    return CalibrationTest("", 0, math.nan, 0, math.nan, 0, why)


def parts_test(table: pd.DataFrame) -> CalibrationTest:
    """Test the parts of a calibration, a row each: `n`, `predicted`, `observed`."""
    n, predicted, observed = (table[name].to_numpy(dtype=np.float64) for name in ("n", "predicted", "observed"))
    if len(table) < 3:
        return no_test("the probabilities differ too little for three parts")
    few = int(np.count_nonzero(n * np.minimum(predicted, 1 - predicted) < _FEW))
    statistic = _chi_squared(n * observed, n * predicted, n)
    return _tested("parts", len(table), statistic, len(table) - 2, few)


def combinations_test(
    happened: Array, p: Array, coefficients: int, parts: int, times: Array | None = None
) -> CalibrationTest | None:
    """Test every combination of values of the terms, told by its probability; None where they are too many.

    `happened` and `p` have shape (n,), and so has `times`, how many rows each is, by default one; `coefficients` has the intercept among
    them; `parts` would be tested instead.
    """
    often = np.ones(len(p)) if times is None else times
    with np.errstate(divide="ignore"):
        odds = np.round(np.log(p) - np.log1p(-p), _DIGITS)
    found, at = np.unique(odds, return_inverse=True)
    if len(found) > min(_A_PART * parts, often.sum() / _ROWS_A_COMBINATION):
        return None
    if len(found) <= coefficients:
        return no_test(
            "the model has a coefficient for every combination of its terms, and so predicts the shares there are"
        )
    n, events, expected = (np.bincount(at, own * often).astype(np.float64) for own in (np.ones(len(p)), happened, p))
    statistic = _chi_squared(events, expected, n)
    return _tested("combinations", len(found), statistic, len(found) - coefficients, 0)


def _chi_squared(events: Array, expected: Array, n: Array) -> float:
    """Return Σ (O − E)²/(E(1 − E/n)) over both sides of each group."""
    variance = expected * (1 - expected / n)
    with np.errstate(divide="ignore", invalid="ignore"):
        each = np.where(events == expected, 0.0, (events - expected) ** 2 / variance)
    return float(each.sum())


def _tested(of: str, groups: int, statistic: float, df: int, few: int) -> CalibrationTest:
    return CalibrationTest(of, groups, statistic, df, float(p_of_f(statistic / df, df, math.inf)), few)
