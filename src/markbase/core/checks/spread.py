"""Whether the residuals of a linear fit spread unevenly, and what that does to its errors."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from markbase.core.checks.some_rows import of_which_rows
from markbase.core.design.cross_products import gather
from markbase.core.design.drawn import DrawnBy
from markbase.core.design.moments import Moments
from markbase.core.design.terms import CodedColumns
from markbase.core.diagnostics.residuals import Finding, Spread
from markbase.core.estimation.fixed_effects import FixedEffects
from markbase.core.estimation.least_squares import solve
from markbase.core.estimation.least_squares_solution import Solution, Swept
from markbase.core.formatting import number
from markbase.core.inference.clustered_errors import cluster_sums
from markbase.core.inference.covariance import errors_of, scored_rows
from markbase.core.inference.distributions import p_of_f
from markbase.core.inference.joint_tests import JointTest, few_clusters, joint_test
from markbase.core.inference.standard_errors import Errors, ScoredRows
from markbase.core.rows.sums import total_of

if TYPE_CHECKING:
    from markbase.core.results.linear import LinearFit

Array = NDArray[np.float64]
_SAME = 1e-12
"""A variance of squares, in squares of their mean, that is rounding in the outcome."""
_OPPOSITES = "levels taken out have two rows at most, and the residuals of two rows of one are as large as one another: nothing shows within levels"
_LITTLE = 0.1
"""Robust errors that differ by no more from the classical ones are not spoken of unasked."""
_MOST_COEFFICIENTS = 1000
"""Of more the robust errors are not worked out to be told beside."""


def spread_of(fit: LinearFit) -> Spread:
    """Return n·R² of the squared residuals on the terms, its degrees of freedom and p (Koenker 1981).

    Where rows were not drawn one by one with equal weights n·R² is not chi-squared: the scores of the terms are tested together.
    """
    heavy = fit.weights.values if fit.weights else None
    square = np.nan_to_num((fit._residuals / fit.strength.residual_sd) ** 2)
    blocks = [*fit._blocks(fit.model_terms)[:-1], CodedColumns(1, multiplier=square)]
    moments = gather(blocks, fit.sample.rows, fit.used, heavy)
    variation = moments.cross[-1, -1] - moments.cross[0, -1] ** 2 / moments.weight
    if variation * moments.scales[-1] ** 2 <= _SAME * moments.weight:  # all squares the same, to within rounding
        return Spread(0.0, int(fit._term_columns.sum()), 1.0)
    fixed = fit.fixed_effects.gathered(moments, blocks, fit.used) if fit.fixed_effects else None
    columns, own = fit.solution.columns, fit._term_columns
    try:
        solution = solve(moments, blocks, fit.used, fit.sample.rows, columns, heavy, fixed)
    except Swept:  # of two rows of a level, the one residual is the opposite of the other
        return Spread(math.nan, int(own.sum()), math.nan, untested=_OPPOSITES)
    left, explained = solution.explained + solution.residual, solution.explained
    if not own.all():  # what a second column of fixed effects explains is no spread by the terms
        aside = solve(moments, blocks, fit.used, fit.sample.rows, columns[~own], heavy, fixed)
        left, explained = aside.residual, aside.residual - solution.residual
    df = int(own.sum())
    if fit.drawn_by.columns or (fit.weights is not None and fit.weights.kind == "sampling"):
        even = solution.without(own, None if own.all() else aside)
        test = _test_of_scores(fit, moments, blocks, solution, even, own, fixed)
        p = float(p_of_f(test.statistic, df, test.df_rest))
        return Spread(test.statistic, df, p, test.df_rest, test.untested)
    if not left > _SAME * moments.rows:  # all squares the same, to within rounding
        return Spread(0.0, df, 1.0)
    statistic = (moments.rows - (fixed.levels if fixed else 0)) * explained / left
    return Spread(statistic, df, float(p_of_f(statistic / df, df, math.inf)))


def _test_of_scores(
    fit: LinearFit,
    moments: Moments,
    blocks: Sequence[CodedColumns],
    solution: Solution,
    even: Solution,
    own: NDArray[np.bool_],
    fixed: FixedEffects | None,
) -> JointTest:
    """Test whether the scores of some coefficients are 0 on average, by the residuals of a solution in which these coefficients are 0.

    Of the sum s of scores u of m rows, or clusters, T = sᵀ(Σuuᵀ)⁻¹s (Wooldridge 1990, doi:10.1017/S0266466600004898) is no more than m. It is
    taken as Hotelling's T² of a mean (1931, doi:10.1214/aoms/1177732979): F = T/(m − T)·(m − r)/r on r and m − r. Within strata, where scores
    are taken from the mean of their stratum, with clusters two ways and with periods it is the `joint_test`.
    """
    tested, n = np.eye(len(own))[own], moments.rows
    if fit.strata or fit.crossed or fit.time:
        drawn = errors_of(
            "dyadic" if fit.errors.kind == "dyadic" else "HC1",
            fit.drawn_by,
            moments,
            blocks,
            even,
            fit.used,
            fit.weights,
            fixed,
        )
        return joint_test(solution, tested, drawn, math.nan)
    scores = scored_rows(moments, blocks, even, fit.used, fit.weights, fixed)
    if fit.cluster:
        sums = cluster_sums(scores, fit.cluster, len(own))
        m, middle = int(np.count_nonzero(sums.rows)), sums.scores.T @ sums.scores
    else:
        m, middle = n, total_of(scores(_squared))  # of rows that are fitted exactly too: their squares are 0
    if len(tested) >= m:
        return JointTest(math.nan, len(tested), untested=few_clusters(m, len(tested)))
    test = joint_test(solution, tested, Errors("HC0", math.inf, middle=middle), math.nan)
    T = test.statistic * test.df
    return JointTest(T / max(m - T, 1e-300) * (m - test.df) / test.df, test.df, m - test.df, test.untested)


def _squared(rows: Iterator[ScoredRows]) -> Array:
    """Return the sum of squared scores, shape (p + 1, p + 1)."""
    return np.asarray(sum((Q * score[:, None]).T @ (Q * score[:, None]) for _, Q, score, *_ in rows))


def _robust_beside(fit: LinearFit) -> tuple[float, float, str]:
    """Return the least and the most times robust errors (HC3) are the classical ones of a fit's coefficients, and which differs most."""
    fixed, parts = fit.fixed_effects, fit.model_terms
    errors = errors_of("HC3", DrawnBy(), fit.moments, fit._blocks(parts), fit.solution, fit.used, fit.weights, fixed)
    table = fit.coefficients
    with np.errstate(invalid="ignore", divide="ignore"):
        times = replace(fit, errors=errors).coefficients["se"].to_numpy() / table["se"].to_numpy()
    times[0] = np.nan  # of the first number, which often describes nobody
    if np.isnan(times).all():
        return math.nan, math.nan, ""
    k = int(np.nanargmax(np.abs(times - 1)))
    term, level = table["term"].iloc[k], table["level"].iloc[k]
    return float(np.nanmin(times)), float(np.nanmax(times)), f"`{term}: {level}`" if level else f"`{term}`"


def spread_finding(fit: LinearFit) -> Finding:
    """Say whether residuals spread more for some values of the terms, and what would do."""
    told = fit._spread
    how = "studentised" if math.isinf(told.df_rest) else "by scores"
    figures = f"{told.figures} (Breusch and Pagan, {how})"
    if told.untested:
        return Finding("spread", figures, told.untested, "")
    if told.p < fit.alpha:
        used = fit.errors.middle is not None
        meaning = "residuals spread more for some values of the terms than for others" + (
            ", which the errors of this fit allow for" if used else ": classical errors are then too small or too large"
        )
        much = len(fit.solution.columns) > _MOST_COEFFICIENTS
        beside = "" if used or much else _times(*_robust_beside(fit))
        way = "" if used else ": ".join(filter(None, ["use robust errors (HC3)", beside]))
        return Finding("spread", figures, meaning, way)
    return Finding("spread", figures, "no clear evidence that the spread depends on the terms", "")


def uneven_spread(fit: LinearFit) -> str:
    """Say that classical errors of a fit are far from the robust ones, where the spread is uneven; empty where not. Of very many rows some are looked at."""
    some: LinearFit | None = None if fit.errors.kind != "classical" or fit.exact else fit._on_some
    if some is None or some.exact or some._many_rows or not some._spread.p < fit.alpha:
        return ""
    least, most, where = _robust_beside(some)
    if not where or (least >= 1 - _LITTLE and most <= 1 + _LITTLE):
        return ""
    return (
        f"Residuals spread more for some values of the terms than for others (Breusch and Pagan, "
        f"{some._spread.figures}{of_which_rows(some, fit)}): robust errors (HC3), which allow for it, are "
        f"{_times(least, most, where)}"
    )


def _times(least: float, most: float, where: str) -> str:
    if math.isnan(least):
        return ""
    if number(least, 2) == number(most, 2):
        return f"{number(least, 2)} times as large"
    return f"{number(least, 2)} to {number(most, 2)} times as large, furthest from 1 for {where}"
