"""Combinations of the inner coefficients of a fit: what they are estimated at, their errors, and joint tests of them."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from markbase.core import extended_precision as twofold
from markbase.core.estimation.least_squares_solution import Solution
from markbase.core.inference.joint_tests import JointTest, columns_test, joint_test
from markbase.core.inference.standard_errors import Errors

Array = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Combinations:
    """Everything an analyst is told is a combination of the inner coefficients.

    An estimate is the combination itself. Its variance is σ² times the squared length of its root, or what robust errors make of
    the root.
    """

    solution: Solution
    """The inner coefficients."""
    errors: Errors
    """What their standard errors rest on."""
    sigma2: float
    """What the products of the roots are multiplied with under classical errors."""

    def estimates(self, chooser: Array, starts: NDArray[np.bool_]) -> Array:
        """Return combinations, shape (m,), by their weights, shape (m, p), with the start where it belongs to them."""
        s = self.solution
        estimates: Array = chooser @ s.coefficients + chooser @ s.lower
        for k in np.flatnonzero(starts):
            high, low = twofold.two_product(chooser[k], s.coefficients)
            estimates[k] = math.fsum([*s.at_centres, *high, *low, *(chooser[k] * s.lower)])
        return estimates

    def roots(self, chooser: Array, starts: NDArray[np.bool_]) -> Array:
        """Return the roots of combinations, shape (m, 1 + p): what falls to the start, and to the columns."""
        roots = np.empty((len(chooser), chooser.shape[1] + 1))
        roots[:, 0] = starts / math.sqrt(self.solution.weight)
        roots[:, 1:] = self.solution.roots_of(chooser, starts)
        return roots

    def se(self, roots: Array, squares: Array | None = None) -> Array:
        """Return the standard errors of combinations, by their roots; NaN where they rest on what is fitted exactly."""
        if self.errors.middle is None:
            lengths = np.einsum("ij,ij->i", roots, roots) if squares is None else squares
            se: Array = np.sqrt(self.sigma2 * lengths)
            return se
        squared = np.einsum("ij,jk,ik->i", roots, self.errors.middle, roots, optimize=True)
        robust: Array = np.where(self.errors.touches(roots), np.nan, np.sqrt(np.maximum(squared, 0.0)))
        return robust

    def covariance(self, roots: Array) -> Array:
        """Return the covariance of combinations, by their roots."""
        if self.errors.middle is None:
            return roots @ roots.T * self.sigma2
        covariance: Array = roots @ self.errors.middle @ roots.T
        return covariance

    def joint(self, chooser: Array) -> JointTest:
        """Test whether combinations are all zero."""
        return joint_test(self.solution, chooser, self.errors, self.sigma2)

    def columns(self, places: NDArray[np.intp]) -> JointTest:
        """Test whether some inner coefficients are all zero."""
        return columns_test(self.solution, places, self.errors, self.sigma2)
