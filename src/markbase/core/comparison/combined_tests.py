"""Testing several coefficients together that were estimated in each of several imputations."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
import scipy.linalg
from numpy.typing import NDArray

from markbase.core.inference.imputation_rules import combined_test
from markbase.core.inference.joint_tests import JointTest, too_few_together
from markbase.core.results.any_fit import AnyFit

Array = NDArray[np.float64]
_INDEPENDENT = 1e-10
"""Below this share of the largest, what is left of a variance is rounding."""


def joint_of(fits: Sequence[AnyFit], chosen: NDArray[np.bool_], df: int | None, why: str) -> JointTest:
    """Test whether some coefficients are all zero, by as many of them as tell all others.

    Parameters
    ----------
    fits : sequence of LinearFit or LogisticFit
        The fits of each imputation, whose coefficients are the same ones.
    chosen : ndarray of bool, shape (rows of their coefficients,)
        Which coefficients.
    df : int, optional
        How many independent ones there are in one imputation; None where that is to be found.
    why : str
        Why there is no test in one imputation; empty where there is.

    Returns
    -------
    JointTest
        F with its degrees of freedom, or why there is none.
    """
    if why:
        return JointTest(math.nan, df or 0, untested=why)
    estimates = np.array([fit.coefficients["estimate"] for fit in fits])
    covariances = np.array([fit.covariance for fit in fits])
    inside = chosen & ~fits[0].coefficients["base"].to_numpy(dtype=bool)
    inside &= np.isfinite(estimates).all(axis=0) & np.isfinite(np.einsum("mii->mi", covariances)).all(axis=0)
    return _tested(fits, estimates[:, inside], covariances[:, inside][:, :, inside], df)


def joint_of_combinations(fits: Sequence[AnyFit], combinations: Sequence[Array], df: int | None, why: str) -> JointTest:
    """Test whether some combinations of coefficients are all zero, by as many of them as tell all others.

    `combinations` are of the inner coefficients of each fit, shape (m, p) each; the rest is as for `joint_of`.
    """
    if why:
        return JointTest(math.nan, df or 0, untested=why)
    none = np.zeros(len(combinations[0]), dtype=bool)
    pairs = [(fit.inner, rows) for fit, rows in zip(fits, combinations, strict=True)]
    estimates = np.array([inner.estimates(rows, none) for inner, rows in pairs])
    return _tested(fits, estimates, np.array([inner.covariance(inner.roots(rows, none)) for inner, rows in pairs]), df)


def _tested(fits: Sequence[AnyFit], estimates: Array, covariances: Array, df: int | None) -> JointTest:
    """Test them by their estimates, shape (imputations, m), and the covariances of these."""
    within = covariances.mean(axis=0)
    spread = np.sqrt(np.diag(within))
    if not len(spread) or not (spread > 0).all():
        return JointTest(math.nan, df or 0, untested="no coefficient of it has an error")
    _, R, order = scipy.linalg.qr(within / np.outer(spread, spread), pivoting=True)
    size = np.abs(np.diag(R))
    tested = np.sort(order[: int(np.count_nonzero(size > _INDEPENDENT * size[0]))])
    if df is not None and len(tested) != df:
        found = f"of its {df} coefficients {len(tested)} can be told in every imputation"
        return JointTest(math.nan, df, untested=found)
    ways = [fit.errors.hotelling(len(tested)) for fit in fits]
    if any(math.isnan(share) for share, _ in ways):
        return JointTest(math.nan, len(tested), untested=too_few_together(fits[0].errors, len(tested)))
    scale, rest = min(ways, key=lambda way: way[1])
    return combined_test(estimates[:, tested], covariances[:, tested][:, :, tested], rest, scale)
