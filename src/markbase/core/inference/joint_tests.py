"""Joint tests of several combinations of coefficients, in coordinates in which nothing cancels.

With X = QF the centred columns, b = F⁻¹u. The combinations Cb are zero where Fb lies in the columns of F N, N spanning the
null space of C; what the data say against it is the part of u across that space. Its basis comes from the columns that are
*not* tested, so that tested columns may be as nearly collinear as the fit itself accepts.

References
----------
Seber & Lee (2003), Linear Regression Analysis, 2nd ed., ch. 4, doi:10.1002/9780471722199.
Cameron & Miller (2015), Journal of Human Resources 50(2), 317-372, doi:10.3368/jhr.50.2.317.
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
import scipy.linalg
from numpy.typing import NDArray

from markbase.core.errors import count_noun
from markbase.core.estimation.least_squares_solution import Solution
from markbase.core.inference.standard_errors import Errors
from markbase.core.rows.processors import ONE_THREAD_EACH

Array = NDArray[np.float64]
_INDEPENDENT = 1e-10
_WELL_CONDITIONED = 100.0
_MANY = 200
"""With more columns than this, a test of most of them is taken from the others."""
_KEPT = 1e-4
"""Where less than this share of what the model tells is tested, too many digits would cancel."""
_LEFT = 0.25
"""Errors clustered two ways that are less than half of those clustered one way, in some direction, make no joint test."""
_HARDLY = "clustered two ways, some combination of its coefficients has less than half the error it has clustered one way; cluster by one of the two for it"
_CARRIED = 1e-9
"""A share of the squared scores, below which what is left of them within clusters is rounding."""


class JointTest(NamedTuple):
    """A test that several combinations are zero."""

    statistic: float
    """F; NaN where there is no test."""
    df: int
    """How many independent combinations are tested."""
    df_rest: float = math.nan
    """Degrees of freedom of the denominator of F; infinite where normal theory is used, NaN where there is no test."""
    untested: str = ""
    """Why there is no test, as a clause; empty if there is one."""


def joint_test(solution: Solution, combinations: Array, errors: Errors, sigma2: float) -> JointTest:
    """Test whether `combinations` of the inner coefficients, shape (m, p), are all zero.

    Wald's F = zᵀV⁻¹z/r over the r independent ones; `sigma2` is the residual variance, for classical errors. With clusters V rests on
    as few scores as there are clusters (or replicate weights), so that zᵀV⁻¹z is taken as Hotelling's T² on their degrees of freedom d:
    F = zᵀV⁻¹z/r·(d − r + 1)/d on r and d − r + 1 (Pustejovsky & Tipton 2018, doi:10.1080/07350015.2016.1247004); so it is with periods. Of clusters of two
    kinds there is none where V is, in some direction, less than a quarter of what it is of one kind.
    """
    rows = independent_rows(solution, combinations)
    df = len(rows)
    if not df:
        return JointTest(math.nan, 0, untested="nothing of it can be told from the other terms in these rows")
    if errors.rest_on_few and df >= errors.df:
        return JointTest(math.nan, df, untested=too_few_together(errors, df))
    basis, z = _whitened(solution, rows)
    if errors.middle is None:
        return JointTest(float(z @ z) / df / sigma2 if sigma2 > 0 else math.inf, df, errors.df)
    if errors.touches(np.vstack([np.zeros(df), basis]).T).any():
        return JointTest(math.nan, df, untested=errors.unknown_words)
    V = basis.T @ errors.middle[1:, 1:] @ basis
    if errors.crossed is not None and df > 1 and _least_share(V, errors.crossed.alone[:, 1:, 1:], basis) < _LEFT:
        return JointTest(math.nan, df, untested=_HARDLY)
    if errors.uncancelled is not None:
        whole = basis.T @ errors.uncancelled[1:, 1:] @ basis
        if float(np.min(scipy.linalg.eigh(V, whole + 1e-300 * np.eye(df), eigvals_only=True))) < _CARRIED:
            return JointTest(
                math.nan,
                df,
                untested="its scores sum to zero within clusters, so that the clusters say nothing of its errors"
                if errors.clusters
                else "its scores sum to zero within periods, so that these say nothing of its errors",
            )
    share, rest = errors.hotelling(df)
    scale = np.sqrt(np.diag(V))
    if not scale.all():
        return JointTest(math.inf, df, rest)
    try:
        root = np.linalg.cholesky(V / np.outer(scale, scale))
    except np.linalg.LinAlgError:
        return JointTest(math.nan, df, untested="the errors of its coefficients are not independent of one another")
    t = scipy.linalg.solve_triangular(root, z / scale, lower=True)
    return JointTest(float(t @ t) / df * share, df, rest)


def _least_share(V: Array, alone: Array, basis: Array) -> float:
    """Return the least share, in any direction, that the variance clustered two ways is of that clustered one way."""
    shares = []
    for one_way in alone:
        own = basis.T @ one_way @ basis
        values = scipy.linalg.eigh(own, V + 1e-12 * np.trace(V) * np.eye(len(V)), eigvals_only=True)
        shares.append(1 / max(float(values[-1]), 1e-300))
    return min(shares)


def few_clusters(clusters: int, df: int) -> str:
    """Say that clusters are too few for a joint test, as a clause."""
    return f"{clusters} clusters cannot carry a joint test of {count_noun(df, 'coefficient')}"


def too_few_together(errors: Errors, df: int) -> str:
    """Say that clusters, or periods, are too few for a joint test, as a clause."""
    if errors.replicates:
        return f"{errors.replicates} replicate weights cannot carry a joint test of {count_noun(df, 'coefficient')}"
    if not errors.periods:
        return few_clusters(errors.fewest_clusters, df)
    return f"{errors.periods} periods, which give {errors.df:.0f} degrees of freedom, cannot carry a joint test of {count_noun(df, 'coefficient')}"


def columns_test(solution: Solution, places: NDArray[np.intp], errors: Errors, sigma2: float) -> JointTest:
    """Test whether the inner coefficients at some `places` are all zero.

    The same as `joint_test` of these, quicker where nothing cancels.
    """
    if solution.twofold or errors.middle is not None or not len(places):
        return joint_test(solution, np.eye(len(solution.columns))[places], errors, sigma2)
    if not sigma2 > 0:
        return JointTest(math.inf, len(places), errors.df)
    roots, b = solution.root[places], solution.coefficients[places]
    if len(places) == 1:
        return JointTest(float(b[0] ** 2 / (roots[0] @ roots[0]) / sigma2), 1, errors.df)
    if len(solution.columns) <= _MANY:
        return JointTest(_statistic_of_roots(roots, b) / sigma2, len(places), errors.df)
    with ONE_THREAD_EACH:
        return JointTest(_statistic_of_many(solution, places, roots, b) / sigma2, len(places), errors.df)


def _statistic_of_many(solution: Solution, places: NDArray[np.intp], roots: Array, b: Array) -> float:
    """Return the mean square of some of many coefficients: from whichever columns are fewer."""
    if 2 * len(places) > len(solution.columns):
        across = _across_columns(solution, places)
        if across @ across > _KEPT * (solution.whitened @ solution.whitened):
            return float(across @ across) / len(places)
    return _statistic_of_roots(roots, b)


def _statistic_of_roots(roots: Array, b: Array) -> float:
    """Return the mean square of coefficients by their roots, shape (r, p)."""
    scale = np.sqrt(np.einsum("ij,ij->i", roots, roots))
    R = scipy.linalg.lapack.dgeqrf((roots / scale[:, None]).T)[0][: len(b)]
    z = scipy.linalg.lapack.dtrtrs(R, b / scale, trans=1)[0]
    return float(z @ z) / len(b)


def _across_columns(solution: Solution, places: NDArray[np.intp]) -> Array:
    """Return what the data say across the columns that are not tested, shape (p,): quick where these are few."""
    others = np.delete(solution.factor, places, axis=1)
    lengths = np.sqrt(np.einsum("ij,ij->j", others, others))
    Q = np.linalg.qr(others / lengths)[0]
    across: Array = solution.whitened - Q @ (Q.T @ solution.whitened)
    return across


def independent_rows(solution: Solution, combinations: Array) -> Array:
    """Return independent rows that span the same combinations, in columns of unit length, shape (r, p)."""
    lengths = np.sqrt(np.einsum("ij,ij->j", solution.factor, solution.factor))
    rows = combinations / lengths
    norms = np.sqrt(np.einsum("ij,ij->i", rows, rows))
    rows = rows[norms > 0] / norms[norms > 0][:, None]
    if len(rows) < 2 or np.all(np.count_nonzero(rows, axis=1) == 1):
        _, first = np.unique(rows, axis=0, return_index=True)
        return np.asarray(rows[np.sort(first)])
    _, R, order = scipy.linalg.qr(rows.T, mode="economic", pivoting=True)
    size = np.abs(np.diag(R))
    rank = int(np.sum(size > _INDEPENDENT * size[0]))
    independent: Array = rows[np.sort(order[:rank])]
    return independent


def unit_directions(solution: Solution, combinations: Array, errors: Errors) -> Array:
    """Return whitened directions, shape (p, r), in which combinations that have a test by robust errors vary by 1, independently."""
    basis, _ = _whitened(solution, independent_rows(solution, combinations))
    assert errors.middle is not None
    V = basis.T @ errors.middle[1:, 1:] @ basis
    scale = np.sqrt(np.diag(V))
    root = np.linalg.cholesky(V / np.outer(scale, scale))
    directions: Array = scipy.linalg.solve_triangular(root, (basis / scale).T, lower=True).T
    return directions


def _whitened(solution: Solution, rows: Array) -> tuple[Array, Array]:
    """Return an orthonormal basis of what rows of combinations test, shape (p, r), and what the data say there, shape (r,).

    Either from the combinations themselves, whose error grows as they are nearly dependent on one another, or from the columns
    that are not tested, whose error grows with how much more the model tells than what is tested: the better of the two.
    """
    lengths = np.sqrt(np.einsum("ij,ij->j", solution.factor, solution.factor))
    combinations = rows * lengths
    roots = solution.roots_of(combinations, np.zeros(len(rows), dtype=bool))
    scale = np.sqrt(np.einsum("ij,ij->i", roots, roots))
    basis, R = np.linalg.qr((roots / scale[:, None]).T)
    b = (combinations @ solution.coefficients + combinations @ solution.lower) / scale
    condition = float(np.linalg.cond(R))
    if condition < _WELL_CONDITIONED:
        return basis, scipy.linalg.solve_triangular(R, b, trans="T")
    across = _across(solution, rows, lengths)
    z = across.T @ solution.whitened
    lost = float(np.linalg.norm(solution.whitened)) / max(float(np.linalg.norm(z)), 1e-300)
    if condition < lost:
        return basis, scipy.linalg.solve_triangular(R, b, trans="T")
    return across, z


def _across(solution: Solution, rows: Array, lengths: Array) -> Array:
    """Return an orthonormal basis of what rows test, from the columns that they do not test, shape (p, r)."""
    r, p = rows.shape
    if r == p:
        return np.asarray(np.eye(p))
    whole = np.linalg.qr(rows.T, mode="complete")[0]
    untested = (solution.factor / lengths) @ whole[:, r:]
    return np.asarray(np.linalg.qr(untested, mode="complete")[0][:, p - r :])
