"""What a step towards the largest likelihood owes to the change of the curvature on the way, read from a part of the rows.

Newton's step takes the curvature for the same all along. Chebyshev's adds half of the second derivative of the slope along
the step, and is of third order. Over rows read in parts that derivative would cost as much as another step, so that of rows
kept in memory stands for it: what is left of the error is less than Newton's by about the noise in these.

References
----------
Traub (1964), Iterative Methods for the Solution of Equations, Prentice-Hall, section 5.2.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from markbase.core.estimation.likelihood import Likelihood
from markbase.core.estimation.likelihood_points import Asked, Theta

Array = NDArray[np.float64]
_LONGEST = 0.5
"""As a share of Newton's step: what would be longer tells that the step leaves the region where three orders are enough."""


@dataclass(frozen=True, eq=False)
class Bend:
    """How the slope bends, by a part of the rows."""

    few: Likelihood
    """The part, in memory."""
    times: float
    """How many rows stand behind each of it."""

    def added(self, theta: Theta, columns: NDArray[np.intp], root: Array, whitened: Array) -> Array:
        """Return Chebyshev's step in place of Newton's, or that as it is.

        Parameters
        ----------
        theta : Theta
            Where it begins.
        columns : ndarray of int, shape (p,)
            The inner columns.
        root : ndarray, shape (1 + p, 1 + p)
            R with R Rᵀ the inverse of the curvature there.
        whitened : ndarray, shape (1 + p,)
            Newton's step in standard errors: R times it is the step.

        Returns
        -------
        ndarray, shape (1 + p,)
            A step in standard errors.
        """
        step = root @ whitened
        asked = [Asked(theta.moved(columns, step, size), missed=False) for size in (1.0, -1.0, 0.0)]
        ahead, behind, here = (point.gradient for point, _ in self.few.passes_at(asked))
        second = ahead + behind - 2 * here
        more = 0.5 * self.times * (root.T @ np.concatenate([second[:1], second[columns]]))
        long = float(np.linalg.norm(more)) > _LONGEST * float(np.linalg.norm(whitened))
        return whitened if long else whitened + more
