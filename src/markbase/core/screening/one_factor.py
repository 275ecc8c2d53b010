"""One common factor of the items of a scale, by maximum likelihood, and the reliability of their sum under it (omega).

References
----------
Jöreskog (1967), Psychometrika 32(4), 443-482, doi:10.1007/BF02289658 (maximum likelihood).
McDonald (1999), Test Theory: A Unified Treatment, ch. 6, doi:10.4324/9781410601087 (omega).
Yuan & Bentler (2002), Psychometrika 67(2), 251-259, doi:10.1007/BF02294845 (how such coefficients vary, whatever the distribution).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
_LEAST_UNIQUE = 0.005
"""The least share of its variance that an item has of its own: less is no estimate any more (Heywood)."""
_AT_BOUND = 1.0001
_FEWEST = 3
"""Of fewer items nothing of a factor can be told."""
_GRADIENT = 1e-9
_LAST_STEPS, _FLAT, _SINGULAR = 4, 1e-12, 1e-8
"""Newton's steps at the end; what share of the largest curvature, and of a variance, is none."""


@dataclass(frozen=True, eq=False)
class OneFactor:
    """Loadings and unique variances of items that have one factor in common."""

    loadings: Array
    """Shape (k,): by how much an item rises with one standard deviation of the factor, in its own unit; their sum is not below 0."""
    unique: Array
    """Shape (k,): the variances that are the items' own."""
    covariance: Array
    """Shape (k, k): the covariance that was fitted."""

    @property
    def omega(self) -> float:
        """The share of the variance of the sum of the items that is the factor's, (Σλ)²/((Σλ)² + Σψ)."""
        shared = float(self.loadings.sum()) ** 2
        return shared / (shared + float(self.unique.sum()))

    @property
    def left(self) -> Array:
        """Shape (k, k): what the factor leaves of the correlations; 0 in the diagonal."""
        sd = np.sqrt(np.diag(self.covariance))
        left: Array = (self.covariance - np.outer(self.loadings, self.loadings)) / np.outer(sd, sd)
        np.fill_diagonal(left, 0.0)
        return left

    def error(self, answers: Array) -> float:
        """Return the standard error of log(1 − omega), times the root of the number of rows.

        By how much each row moves it, through the covariances that the likelihood is made of, whatever the distribution.

        Parameters
        ----------
        answers : ndarray, shape (k, rows)
            Rows that tell of all.

        Returns
        -------
        float
            NaN where the likelihood is flat in some direction.
        """
        shared, own = float(self.loadings.sum()), float(self.unique.sum())
        whole, k = shared**2 + own, len(self.loadings)
        slope = np.concatenate([np.full(k, -2 * shared / whole), np.full(k, 1 / own - 1 / whole)])  # of log(1 − omega)
        _, curvature, inside = _discrepancy(self.loadings, self.unique, self.covariance)
        weights = _solved(curvature, slope)
        if weights is None:
            return math.nan
        away = answers - answers.mean(axis=1, keepdims=True)
        rows = answers.shape[1]
        matrix = 0.5 * rows / (rows - 1) * np.einsum("j,jab->ab", weights, inside)
        moved = np.einsum("ir,ij,jr->r", away, matrix, away, optimize=True)
        return float(np.sqrt(np.mean((moved - moved.mean()) ** 2)))


def _discrepancy(loadings: Array, unique: Array, covariance: Array) -> tuple[Array, Array, Array]:
    """Return the slope of half the discrepancy log|Σ| + tr(SΣ⁻¹) by loadings and unique variances, its curvature, and Σ⁻¹ ∂Σ Σ⁻¹ of each."""
    k, unit = len(loadings), np.eye(len(loadings))
    inverse = np.linalg.inv(np.outer(loadings, loadings) + np.diag(unique))
    along = np.array([np.outer(e, loadings) + np.outer(loadings, e) for e in unit] + [np.outer(e, e) for e in unit])
    inside = inverse @ along @ inverse
    miss = np.outer(loadings, loadings) + np.diag(unique) - covariance
    slope = 0.5 * np.einsum("jab,ab->j", inside, miss)
    curvature = 0.5 * np.einsum("jab,kab->jk", inside - 2 * inside @ miss @ inverse, along)
    curvature[:k, :k] += inverse @ miss @ inverse
    return slope, (curvature + curvature.T) / 2, inside


def _solved(matrix: Array, vector: Array) -> Array | None:
    """Solve a symmetric system; None where it is singular, to within rounding."""
    values, vectors = np.linalg.eigh(matrix)
    if np.abs(values).min() <= _FLAT * np.abs(values).max():
        return None
    return np.asarray(vectors @ ((vectors.T @ vector) / values))


def one_factor(covariance: Array) -> OneFactor | None:
    """Fit one factor to the covariances of items by maximum likelihood.

    Parameters
    ----------
    covariance : ndarray, shape (k, k)
        Their covariances.

    Returns
    -------
    OneFactor or None
        None of fewer than three items, where the covariances are singular, or where an item would have hardly any variance of its own.
    """
    k = len(covariance)
    sd = np.sqrt(np.diag(covariance))
    R = covariance / np.outer(sd, sd)
    if k < _FEWEST or float(np.linalg.eigvalsh(R)[0]) < _SINGULAR:
        return None
    start = 1 / np.diag(np.linalg.inv(R))
    bounds = [(math.log(_LEAST_UNIQUE), 0.0)] * k

    def discrepancy(log_unique: Array) -> tuple[float, Array]:
        unique = np.exp(log_unique)
        root = np.sqrt(unique)
        values, vectors = np.linalg.eigh(R / np.outer(root, root))
        rest = np.maximum(values[:-1], np.finfo(float).tiny)
        first = max(float(values[-1]) - 1, 0.0)
        loadings = root * vectors[:, -1] * math.sqrt(first)
        inverse = np.linalg.inv(np.outer(loadings, loadings) + np.diag(unique))
        slope = np.diag(inverse @ (np.outer(loadings, loadings) + np.diag(unique) - R) @ inverse) * unique
        return float(np.sum(rest - np.log(rest) - 1)), slope

    from scipy.optimize import minimize  # a third of a second, which no other page waits for

    found = minimize(
        discrepancy,
        np.clip(np.log(np.clip(start, _LEAST_UNIQUE, 1.0)), *bounds[0]),
        jac=True,
        method="L-BFGS-B",
        bounds=bounds,
        options={"ftol": 0.0, "gtol": _GRADIENT, "maxiter": 2000, "maxfun": 5000},
    )
    unique = np.exp(found.x)
    if unique.min() <= _LEAST_UNIQUE * _AT_BOUND:
        return None
    root = np.sqrt(unique)
    values, vectors = np.linalg.eigh(R / np.outer(root, root))
    if not values[-1] > 1:
        return None
    loadings = root * vectors[:, -1] * math.sqrt(float(values[-1]) - 1)
    for _ in range(_LAST_STEPS):  # Newton's, to the last digits
        slope, curvature, _ = _discrepancy(loadings, unique, R)
        step = _solved(curvature, slope)
        if step is None:
            return None
        loadings, unique = loadings - step[:k], unique - step[k:]
    if not unique.min() > 0:
        return None
    loadings = loadings * (-1 if loadings @ sd < 0 else 1)
    return OneFactor(loadings * sd, unique * sd**2, covariance)
