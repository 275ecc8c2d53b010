"""What steps show of a curvature after it was taken: the changes of the slope along them (the BFGS update).

References
----------
Nocedal & Wright (2006), Numerical Optimization, 2nd ed., section 6.1, doi:10.1007/978-0-387-40065-5.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
_LEAST_CURVED = 1e-3
"""A step along which the curvature seems less than this share of the one taken is not learnt from: it may be rounding."""


@dataclass(frozen=True, eq=False)
class Secants:
    """The curvature as B = I + U diag(c) Uᵀ, in coordinates in which the one taken is I."""

    directions: Array
    """Shape (1 + p, 2 times the steps): U."""
    signs: Array
    """Shape (2 times the steps,): c, −1 and 1."""

    @classmethod
    def none(cls, size: int) -> Secants:
        """Return the curvature as it was taken, in so many coordinates."""
        return cls(np.zeros((size, 0)), np.zeros(0))

    def times(self, step: Array) -> Array:
        """Return B s."""
        found: Array = step + self.directions @ (self.signs * (self.directions.T @ step))
        return found

    def after(self, step: Array, change: Array) -> Secants:
        """Return the curvature after a step s along which the slope fell by y."""
        along, before = float(step @ change), self.times(step)
        length = float(step @ before)
        if not along > _LEAST_CURVED * length > 0:
            return self
        both = np.stack([before / math.sqrt(length), change / math.sqrt(along)], axis=1)
        return Secants(np.hstack([self.directions, both]), np.append(self.signs, [-1.0, 1.0]))

    def solved(self, slope: Array, off: Array | None = None) -> Array:
        """Return s with B s = slope; with orthonormal columns that it must be orthogonal to, the same among those steps."""
        U = self.directions if off is None else self.directions - off @ (off.T @ self.directions)
        inner = np.diag(self.signs) + U.T @ U  # each sign is its own inverse
        found: Array = slope - U @ np.linalg.solve(inner, U.T @ slope)
        return found
