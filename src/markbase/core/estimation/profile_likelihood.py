"""Where the likelihood of one coefficient, the others free, has fallen by as much as given.

References
----------
Venzon & Moolgavkar (1988), Applied Statistics 37(1), 87-94, doi:10.2307/2347496.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from markbase.core.estimation.least_squares_solution import Dependent
from markbase.core.estimation.likelihood import Likelihood
from markbase.core.estimation.likelihood_points import Theta
from markbase.core.estimation.newton import Information, gradient_of, information_at

Array = NDArray[np.float64]
_MOST_STEPS = 60
_FARTHEST = 2.0
_CLOSE = 1e-10
_ROUNDING = 1e-5


def profile_end(
    rows: Likelihood,
    columns: NDArray[np.intp],
    theta: Theta,
    objective: float,
    information: Information,
    combination: Array,
    fall: float,
    upward: bool,
    firth: bool,
) -> float:
    """Find one end of the profile-likelihood interval of a `combination` of the inner coefficients, the start first.

    There the (penalised) log-likelihood, `objective` at the maximum `theta`, has fallen by `fall`: half a quantile of
    chi-squared. NaN if none was found, as where the likelihood never falls that far.
    """
    sign = 1.0 if upward else -1.0
    lean = information.root.T @ combination
    step = information.root @ lean * (sign * math.sqrt(2 * fall / (lean @ lean)))
    before = math.inf
    for _ in range(_MOST_STEPS):
        theta = theta.moved(columns, step)
        point, passed = rows.pass_at(theta)
        try:
            information = information_at(rows, passed, columns, rough=not firth)
        except (Dependent, np.linalg.LinAlgError):  # so far out that nothing curves in some direction any more
            return math.nan
        reached = point.loglik + (0.5 * information.log_determinant if firth else 0.0)
        above = reached - (objective - fall)
        whitened = information.root.T @ gradient_of(rows, point, passed, information, columns, firth)
        lean = information.root.T @ combination
        square = (2 * above + float(whitened @ whitened)) / float(lean @ lean)
        inner = whitened + sign * math.sqrt(max(square, 0.0)) * lean
        length = float(np.linalg.norm(inner))
        settled = length < _CLOSE or (
            length < _ROUNDING and length > 0.5 * before
        )  # rounding keeps it from coming closer
        if settled:
            now = np.concatenate([[theta.start], theta.slopes[columns]])
            return float(combination @ now) if abs(above) < _ROUNDING else math.nan
        before = length
        step = information.root @ inner * min(1.0, _FARTHEST / length)
        if not np.isfinite(step).all():
            return math.nan
    return math.nan
