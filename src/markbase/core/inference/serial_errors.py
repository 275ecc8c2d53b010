"""Errors of rows that follow one another in time, and may go together (HAC: heteroscedasticity and autocorrelation consistent).

Scores are summed in each period, and these sums weighed by cosines of the time that swing slowly, √2 cos(πj(t − ½)/T) for the periods t = 1, …, T and j = 1,
…, B. Of periods that are independent the B weighed sums are as well, each with the variance of the whole sum; of such that go together for a
while they still have about that of the whole, since what swings slowly sees long runs. Their mean square is the variance, on B degrees of freedom: few,
B = .4 T^⅔, as what one series says of itself is little. Several coefficients are tested by Hotelling's T² on B.

Residuals swing less slowly than what they are left of, since terms (a trend, what begins half-way) take such swings out. The mean square is therefore
divided by what it would be of independent rows of one variance, S = Σ_j (QᵀC_j²Q − (QᵀC_jQ)²)/B in whitened columns Q, C_j being the j-th cosine, as those
of clusters are by Bell and McCaffrey.

References
----------
Lazarus, Lewis, Stock & Watson (2018), Journal of Business & Economic Statistics 36(4), 541-559, doi:10.1080/07350015.2018.1506926.
Bell & McCaffrey (2002), Survey Methodology 28(2), 169-181.
Newey & West (1987), Econometrica 55(3), 703-708, doi:10.2307/1913610 (the first such errors, by weights of lags).
Driscoll & Kraay (1998), Review of Economics and Statistics 80(4), 549-560, doi:10.1162/003465398557825 (several rows in each period).
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import FitError, count_noun, remark
from markbase.core.inference.clustered_errors import cluster_sums, directions_alone, products_within
from markbase.core.inference.standard_errors import Errors, Over, ScoredRows
from markbase.core.inference.sums_by_code import sums_by_code
from markbase.core.study.column import Column

Array = NDArray[np.float64]
FEWEST_PERIODS = 20
"""Of fewer periods nothing can be said about how they go together."""
_SHARE, _POWER = 0.4, 2 / 3
_ALL_HELD, _HELD, _WIDE, _LONG = 1 << 25, 1 << 23, 256, 32
"""Numbers of products in periods that are held at once, or at a time; pairs of columns of which they are then; and passes over the rows that take long."""
_NOTHING = 1e-9
"""A direction that terms take all slow swings out of has no more of them left."""


def degrees_of_freedom(periods: int) -> int:
    """Return how many cosines the variance is taken from, of so many periods."""
    return int(_SHARE * periods**_POWER)


def serial_errors(over: Over, time: Column, n: int, rest: int, p: int) -> Errors:
    """Return errors of rows in periods, the levels of a column in the order of time.

    Their middle is S^−½ Σ_j (Σ_t u_t √2 cos(πj(t − ½)/T))²/B S^−½ of the sums u_t of scores in the T periods that have rows, as much larger as there are fewer rows
    less levels taken out. Raises a `FitError` for fewer than `FEWEST_PERIODS`.
    """
    sums = cluster_sums(over, time, p)
    here = sums.rows > 0
    periods = int(np.count_nonzero(here))
    if periods < FEWEST_PERIODS:
        raise FitError(
            f"`{time.name}` has {count_noun(periods, 'period')} in the rows used, of which nothing tells how those that follow one another go together: such errors "
            f"(HAC) need at least {FEWEST_PERIODS}. Cluster by what each series is of, where there are several, or put the row before (a lag) into the model."
        )
    count = degrees_of_freedom(periods)
    weighed = math.sqrt(2) * _swings(sums.scores[here], count)
    values, vectors = np.linalg.eigh(_expected(over, time, here, count, p))
    told = values > _NOTHING
    inverse_root = vectors[:, told] / np.sqrt(values[told]) @ vectors[:, told].T
    alone = [vectors[:, ~told].T, directions_alone(over, time, sums, p)]
    fitted = np.vstack([directions for directions in alone if directions is not None])
    return Errors(
        "HAC",
        count,
        middle=inverse_root @ (weighed.T @ weighed / count * ((n - p - 1) / rest)) @ inverse_root,
        uncancelled=sums.uncancelled,
        fitted=fitted if len(fitted) else None,
        time=time.name,
        periods=periods,
    )


def _swings(values: Array, most: int) -> Array:
    """Return the sums of values, shape (periods, k), times cos(πj(t − ½)/T) for j = 1 to `most`, shape (most, k), by a fast Fourier transform."""
    j = np.arange(1, most + 1)[:, None]
    found = np.fft.rfft(values, n=2 * len(values), axis=0)[1 : most + 1]
    swings: Array = (found * np.exp(-0.5j * np.pi * j / len(values))).real
    return swings


def _expected(over: Over, time: Column, here: NDArray[np.bool_], count: int, p: int) -> Array:
    """Return what the mean square would be of independent rows of one variance, as a share of theirs, shape (p + 1, p + 1).

    It is taken from the products of pairs of whitened columns, summed in each period: all of them at once, or so many pairs at a time.
    """
    first, second = np.triu_indices(p + 1)
    once, twice = np.zeros((count, p + 1, p + 1)), np.zeros((p + 1, p + 1))
    for some, sums in _products_in_periods(over, time, here, p):
        a, b, swings = first[some], second[some], _swings(sums, 2 * count)
        once[:, a, b] = once[:, b, a] = swings[:count]
        twice[a, b] = twice[b, a] = swings[1::2].sum(axis=0)
    shared: Array = np.eye(p + 1) + (twice - 2 * np.einsum("jab,jbc->ac", once, once, optimize=True)) / count
    return shared


def _products_in_periods(over: Over, time: Column, here: NDArray[np.bool_], p: int) -> Iterator[tuple[slice, Array]]:
    """Yield some pairs of whitened columns, of those in the upper triangle, and their products summed in each period, shape (periods, pairs)."""
    first, second = np.triu_indices(p + 1)
    periods = int(np.count_nonzero(here))
    if periods * (p + 1) ** 2 <= _ALL_HELD:
        every = [own[:, first, second] for _, own in products_within(over, time, np.flatnonzero(here), p)]
        yield slice(None), np.concatenate(every)
        return
    many = max(1, min(_WIDE, _HELD // len(here)))
    if len(first) > _LONG * many:
        remark(f"Errors robust to serial correlation (HAC) of {p:,} columns and {periods:,} periods take long.")
    for begin in range(0, len(first), many):
        some = slice(begin, begin + many)

        def products(rows: ScoredRows, a: Any = first[some], b: Any = second[some]) -> Array:
            found: Array = rows.Q[:, a] * rows.Q[:, b] * rows.share[:, None]
            return found

        yield some, sums_by_code(over, time.values, 0, len(here), products, len(first[some]))[0][here]
