"""What comparing likelihoods tells of a logistic fit: tests of terms, and intervals that need not be even about the estimate.

References
----------
Venzon & Moolgavkar (1988), Applied Statistics 37(1), 87-94, doi:10.2307/2347496.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import remark
from markbase.core.estimation.least_squares_solution import Solution
from markbase.core.estimation.likelihood import Likelihood
from markbase.core.estimation.likelihood_points import Passed, Point, Theta
from markbase.core.estimation.newton import Constraint, Information, maximise_held
from markbase.core.estimation.profile_likelihood import Profile
from markbase.core.inference.joint_tests import independent_rows

Array = NDArray[np.float64]
_HIGHER = 1e-3
"""A likelihood that rises by more where something is held is no rounding."""


@dataclass(frozen=True, eq=False)
class LikelihoodRatios:
    """A fit at its maximum, beside the same model with some combinations of coefficients held.

    A combination has a weight for the start of the equation, and then one for each inner coefficient, shape (1 + p,).
    """

    likelihood: Likelihood
    """The rows."""
    solution: Solution
    """The inner coefficients."""
    theta: Theta
    """Where the likelihood is highest."""
    reached: tuple[Point, Passed]
    """The likelihood there, and what each row contributes."""
    objective: float
    """What was maximised: the log-likelihood, with the penalty if there is one."""
    information: Information
    """The curvature there."""
    firth: bool
    """Whether the likelihood is penalised."""
    _known: dict[tuple[object, ...], Any] = field(default_factory=dict)
    """What was found: from another base many combinations are the same, or the same with the other sign."""

    def falls(self, combinations: Sequence[Array]) -> list[float]:
        """Return twice the fall of the log-likelihood when some combinations, shape (m, 1 + p), are held at 0, each of several by itself.

        NaN where the steps did not end, or ended on a higher peak of a penalised likelihood.
        """
        keys = [tuple(_one_sign(row)[0].tobytes() for row in some) for some in combinations]
        left = {key: some for key, some in zip(keys, combinations, strict=True) if key not in self._known}
        held = maximise_held(
            self.likelihood,
            self.solution.columns,
            self.reached,
            [Constraint(some, np.zeros(len(some))) for some in left.values()],
            firth=self.firth,
            information=None if self.firth else self.information,
        )
        higher = False
        for key, found in zip(left, held, strict=True):
            fall = 2 * (self.objective - found.objective) - found.gain
            peak = fall < -_HIGHER
            self._known[key] = max(fall, 0.0) if found.status == "converged" and not peak else math.nan
            higher = higher or peak
        if higher:
            remark(
                "The penalised likelihood has more than one peak in these rows: with coefficients held at 0 it rises above that of the estimates, "
                "so these hang on where the steps began. Leave terms out or merge levels."
            )
        return [self._known[key] for key in keys]

    def falls_of(self, tested: Sequence[Array]) -> Array:
        """Return the same of combinations of the inner coefficients alone, shape (m, p) each; NaN where none of them is independent."""
        lengths = np.sqrt(np.einsum("ij,ij->j", self.solution.factor, self.solution.factor))
        each = [independent_rows(self.solution, some) for some in tested]
        some = [np.hstack([np.zeros((len(rows), 1)), rows * lengths]) for rows in each if len(rows)]
        statistics = np.full(len(tested), np.nan)
        statistics[[k for k, rows in enumerate(each) if len(rows)]] = self.falls(some)
        return statistics

    def interval(self, combination: Array, half: float) -> tuple[float, float]:
        """Return all values of a combination at which the log-likelihood is lower by up to half²/2: both ends, NaN where none was found."""
        combination, sign = _one_sign(combination)
        key = (combination.tobytes(), half)
        if key not in self._known:
            self._known[key] = self._interval(combination, half**2 / 2)
        low, high = self._known[key]
        return (low, high) if sign > 0 else (-high, -low)

    def _interval(self, combination: Array, fall: float) -> tuple[float, float]:
        profile = Profile(
            self.likelihood,
            self.solution.columns,
            self.theta,
            self.objective,
            self.information,
            combination,
            self.firth,
        )
        return profile.end(fall, upward=False), profile.end(fall, upward=True)


def _one_sign(combination: Array) -> tuple[Array, float]:
    """Return a combination with a positive first weight, and the sign it had; without negative zeros, so that equal ones are alike."""
    some = np.flatnonzero(combination)
    sign = float(np.sign(combination[some[0]])) if len(some) else 1.0
    return sign * combination + 0.0, sign
