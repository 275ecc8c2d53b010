"""Few rows of a logistic model laid out as columns, for maximising its likelihood again and again with other weights.

A pass over rows that are looked up costs many small steps, which are most of the time where rows are few.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy.linalg
import scipy.special as sp
from numpy.typing import NDArray

from markbase.core.estimation.event_rows import EventRows
from markbase.core.estimation.likelihood_points import Theta, probability
from markbase.core.rows.parts import in_parts

Array = NDArray[np.float64]
_MOST_NUMBERS = 1 << 20
"""More numbers than this are not laid out."""
_MOST_STEPS = 12
_DONE = 1e-20
"""A squared step, in standard errors, at which there is nothing left to gain."""


@dataclass(frozen=True, eq=False)
class LaidOutRows:
    """The rows used of a logistic fit, in coordinates in which steps are in its standard errors."""

    inside: NDArray[np.intp]
    """Shape (rows used,): their places."""
    event: Array
    """Shape (rows used,): 1 for the event, 0 otherwise."""
    columns: Array
    """Shape (rows used, 1 + p): a column of ones and the inner columns, whitened."""
    predictor: Array
    """Shape (rows used,): the linear predictor at the estimates."""
    occurs: NDArray[np.bool_]
    """Shape (rows used, columns of levels): which rows have each."""
    estimates: Array
    """Shape (1 + p,): the start, and the inner coefficients."""
    root: Array
    """Shape (1 + p, 1 + p): R with R Rᵀ the inverse of the curvature there."""

    @classmethod
    def of(cls, rows: EventRows, columns: NDArray[np.intp], theta: Theta, root: Array) -> LaidOutRows | None:
        """Lay out the rows of a fit; None where they are too many, or come in parts."""
        if in_parts(rows.event):
            return None
        inside = np.arange(len(rows.event)) if rows.used is None else np.flatnonzero(rows.used)
        if len(inside) * len(root) > _MOST_NUMBERS:
            return None
        X = rows.dense(columns, inside)
        estimates = np.concatenate([[theta.start], theta.slopes[columns]])
        occurs = X[:, 1:][:, np.isin(columns, rows.level_columns)] != 0
        return cls(inside, rows.event[inside], X @ root, X @ estimates, occurs, estimates, root)

    def maximum(self, weights: Array) -> tuple[Array, float] | None:
        """Return the coefficients, as the estimates, and the log-likelihood where it is largest with weights of all rows of the study.

        None where a level has no row, or some steps from the estimates do not lead there: whether there is a maximum is not
        said.
        """
        w, at = weights[self.inside], np.zeros(self.columns.shape[1])
        if not (w @ self.occurs > 0).all():
            return None
        loglik = -np.inf
        for _ in range(_MOST_STEPS):
            eta = self.predictor + self.columns @ at
            reached = float(w @ (sp.log_expit(np.where(self.event == 1, eta, -eta))))
            if not reached >= loglik - 1e-12 * (1 + abs(loglik)):
                return None
            p, loglik = probability(eta), reached
            slope = self.columns.T @ (w * (self.event - p))
            curvature = (self.columns * (w * p * (1 - p))[:, None]).T @ self.columns
            _, step, trouble = scipy.linalg.lapack.dposv(curvature, slope, lower=1)
            if trouble:
                return None
            at = at + step
            if slope @ step <= _DONE:
                return self.estimates + self.root @ at, loglik
        return None
