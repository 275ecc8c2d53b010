"""Where the likelihood of one coefficient, the others free, has fallen by as much as given.

References
----------
Venzon & Moolgavkar (1988), Applied Statistics 37(1), 87-94, doi:10.2307/2347496.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cache, cached_property

import numpy as np
from numpy.typing import NDArray

from markbase.core.estimation.least_squares_solution import Dependent
from markbase.core.estimation.likelihood import Likelihood
from markbase.core.estimation.likelihood_points import Theta
from markbase.core.estimation.newton import PATIENT, Constraint, Information, gradient_of, information_at, maximise_held
from markbase.core.estimation.secants import Secants

Array = NDArray[np.float64]
_MOST_STEPS = 60
_FARTHEST = 2.0
_CLOSE = 1e-10
_ENOUGH = 1e-12
"""A squared step, in standard errors, that need not be taken where only the height is asked for."""
_NOWHERE = 1e3
"""A step of so many standard errors, or an end so far away, is none."""
_SHORT = 0.5
"""A step, in standard errors, from which on the curvature is kept where the likelihood is penalised."""
_FURTHER = 2.0
"""An end so many times as far away as that of a parabola is looked for with care."""
_ROUNDING = 1e-5


@dataclass(frozen=True, eq=False)
class Profile:
    """The (penalised) likelihood of a combination of the inner coefficients, the others free."""

    rows: Likelihood
    """The rows."""
    columns: NDArray[np.intp]
    """The inner columns."""
    theta: Theta
    """Where the likelihood is highest."""
    objective: float
    """How high it is there."""
    information: Information
    """The curvature there."""
    combination: Array
    """Shape (1 + p,): the combination, the start first."""
    firth: bool
    """Whether the likelihood is penalised."""

    def end(self, fall: float, upward: bool) -> float:
        """Find one end of the profile-likelihood interval, where the likelihood has fallen by so much: half a quantile of chi-squared.

        NaN if none was found. Held, a penalised likelihood may have several peaks: it is followed along that of the estimate.
        """
        sign = 1.0 if upward else -1.0
        found = self._by_steps(fall, sign)
        far = abs(found - self._at(self.theta)) / self._error
        if math.isfinite(found) and not (self.firth and far > _FURTHER * math.sqrt(2 * fall)):
            return found
        searched = self._by_search(fall, sign)  # far steps may have gone over to another peak
        return searched if math.isfinite(searched) else found

    def _by_steps(self, fall: float, sign: float) -> float:
        """Take steps towards the end, the likelihood taken for a parabola, as Venzon & Moolgavkar do; NaN where they lead nowhere."""
        theta, kept, size = self.theta, self.information, len(self.combination)
        lean = kept.root.T @ self.combination
        inner, seen, before = lean * (sign * math.sqrt(2 * fall / (lean @ lean))), Secants.none(size), math.inf
        gradient, lowest, since = np.zeros(size), math.inf, 0
        for _ in range(_MOST_STEPS):
            theta = theta.moved(self.columns, kept.root @ inner)
            point, passed = self.rows.pass_at(theta)
            try:
                here = information_at(self.rows, passed, self.columns, rough=not self.firth)
            except (Dependent, np.linalg.LinAlgError):  # so far out that nothing curves in some direction any more
                return math.nan
            above = point.loglik + (0.5 * here.log_determinant if self.firth else 0.0) - (self.objective - fall)
            old, gradient = gradient, gradient_of(self.rows, point, passed, here, self.columns, self.firth)
            if not self.firth or before > _SHORT:
                kept, seen = here, Secants.none(size)
            else:  # the penalty curves too, which is learnt from the steps
                seen = seen.after(inner, kept.root.T @ (old - gradient))
            lean, whitened = kept.root.T @ self.combination, kept.root.T @ gradient
            up, along = seen.solved(whitened), seen.solved(lean)
            square = (2 * above + float(whitened @ up)) / float(lean @ along)
            inner = up + sign * math.sqrt(max(square, 0.0)) * along
            length = float(np.linalg.norm(inner))
            lowest, since = (length, 0) if length < 0.5 * lowest else (lowest, since + 1)
            # rounding keeps it from coming closer, or, where the curvature is learnt, a detour
            if length < _CLOSE or (length < _ROUNDING and since >= (PATIENT if self.firth else 1)):
                return self._at(theta) if abs(above) < _ROUNDING else math.nan
            if not length < _NOWHERE:
                return math.nan
            before = length
            inner *= min(1.0, _FARTHEST / length)
        return math.nan

    def _by_search(self, fall: float, sign: float) -> float:
        """Look for the end among the highest points where the combination is held, further and further out and then between; NaN where there is none."""
        from scipy.optimize import brentq  # slow to load, and seldom needed

        middle, known = self._at(self.theta), {0.0: self.rows.pass_at(self.theta)}

        @cache
        def beyond(far: float) -> float:
            """Return how far the root of what it has fallen, which grows nearly as the distance does, is beyond what is wanted."""
            nearest = known[min(known, key=lambda other: abs(other - far))]
            held = Constraint(self.combination[None, :], np.array([middle + sign * far * self._error]))
            (found,) = maximise_held(self.rows, self.columns, nearest, [held], firth=self.firth, done=_ENOUGH)
            if found.status != "converged":
                raise ArithmeticError
            known[far] = found.point, found.passed
            return math.sqrt(max(self.objective - found.objective - found.gain / 2, 0.0)) - math.sqrt(fall)

        near, far, short = 0.0, math.sqrt(2 * fall), -math.sqrt(fall)
        try:
            while (gap := beyond(far)) < 0:
                ahead = 1.1 * gap * (far - near) / (short - gap) if gap > short else far
                near, far, short = far, far + min(max(ahead, 0.1 * far), 0.5 * far), gap
                if far > _NOWHERE:
                    return math.nan
            found = brentq(beyond, near, far, xtol=1e-9, rtol=1e-12)
        except (ArithmeticError, Dependent, np.linalg.LinAlgError):
            return math.nan
        return middle + sign * self._error * float(found)

    @cached_property
    def _error(self) -> float:
        """The standard error of the combination."""
        return float(np.linalg.norm(self.information.root.T @ self.combination))

    def _at(self, theta: Theta) -> float:
        return float(self.combination @ np.concatenate([[theta.start], theta.slopes[self.columns]]))
