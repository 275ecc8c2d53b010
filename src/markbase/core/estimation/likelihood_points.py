"""Points of a logistic likelihood: coefficients, what is asked for there, and what a pass over the rows finds."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.gathering import Sums
from markbase.core.design.moments import Moments

Array = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Theta:
    """Coefficients of a logistic model."""

    start: float
    """The linear predictor where every column is at its centre."""
    slopes: Array
    """Shape (columns of the moments,): in the units of the data; 0 for columns that are not inner ones."""

    def moved(self, columns: NDArray[np.intp], step: Array, size: float = 1.0) -> Theta:
        """Return coefficients a step further: of the start first, then of the inner columns."""
        slopes = self.slopes.copy()
        slopes[columns] += size * step[1:]
        return Theta(self.start + size * float(step[0]), slopes)


@dataclass(frozen=True, eq=False)
class Asked:
    """Where a pass over the rows is asked for."""

    theta: Theta
    """The coefficients."""
    curved: bool = False
    """Whether the moments weighted by the curvature will be asked for there as well: rows that come in parts are then read once for both."""
    missed: bool = True
    """Whether what is missed will be asked for; it is summed at all coefficients of a pass, or at none."""


@dataclass(frozen=True, eq=False)
class Point:
    """The likelihood at some coefficients."""

    theta: Theta
    """The coefficients."""
    loglik: float
    """The log-likelihood."""
    gradient: Array
    """Shape (columns of the moments,): its slope, the start's first."""
    farthest: float
    """The largest absolute linear predictor."""
    missed: tuple[float, float]
    """Weighted sums of 1 − p where the event happened, and of p where it did not; 0 where this was not asked for."""
    missed_squares: float
    """Weighted sum of (event − p)²; 0 where this was not asked for."""


class Passed:
    """What a pass over the rows finds in each of them, made when it is first asked for."""

    def __init__(self, arrays: Callable[[], tuple[Array, Array]], moments: Moments | None = None) -> None:
        self._make = arrays
        self.moments = moments
        """Moments weighted by the curvature, where they were taken in the same pass."""

    @cached_property
    def _arrays(self) -> tuple[Array, Array]:
        return self._make()

    @property
    def curvature(self) -> Array:
        """Shape (rows,): weight times p(1 − p); 0 in rows not used."""
        return self._arrays[0]

    @property
    def score(self) -> Array:
        """Shape (rows,): weight times (event − p); 0 in rows not used."""
        return self._arrays[1]


@dataclass(eq=False)
class Found:
    """What a pass finds in some of the rows."""

    point: Point
    """The likelihood of these."""
    arrays: tuple[Array, Array] | None = None
    """Curvature and score of each, where they are kept."""
    sums: Sums | None = None
    """What moments weighted by the curvature are made of, where they are taken."""


def probability(eta: Array) -> Array:
    """Return 1 / (1 + exp(−eta)), without overflow."""
    tail = np.exp(-np.abs(eta))
    likely: Array = np.where(eta >= 0, 1.0, tail) / (1 + tail)
    return likely
