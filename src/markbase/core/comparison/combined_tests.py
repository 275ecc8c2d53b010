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
    places = np.flatnonzero(inside)
    within = covariances.mean(axis=0)[np.ix_(places, places)]
    spread = np.sqrt(np.diag(within))
    if not len(places) or not (spread > 0).all():
        return JointTest(math.nan, df or 0, untested="no coefficient of it has an error")
    _, R, order = scipy.linalg.qr(within / np.outer(spread, spread), pivoting=True)
    size = np.abs(np.diag(R))
    tested = np.sort(places[order[: int(np.count_nonzero(size > _INDEPENDENT * size[0]))]])
    if df is not None and len(tested) != df:
        found = f"of its {df} coefficients {len(tested)} can be told in every imputation"
        return JointTest(math.nan, df, untested=found)
    ways = [fit.errors.hotelling(len(tested)) for fit in fits]
    if any(math.isnan(share) for share, _ in ways):
        return JointTest(math.nan, len(tested), untested=too_few_together(fits[0].errors, len(tested)))
    scale, rest = min(ways, key=lambda way: way[1])
    square = np.ix_(np.arange(len(estimates)), tested, tested)
    return combined_test(estimates[:, tested], covariances[square], rest, scale)
