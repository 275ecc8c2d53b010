"""Predictions for many rows in one pass: the linear predictor of each, and its standard error."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.design.coefficient_map import components_of
from markbase.core.design.terms import Component, Variable
from markbase.core.results.new_rows import NewRows

if TYPE_CHECKING:
    from markbase.core.results.estimates import Estimated

Array = NDArray[np.float64]
_CHUNK = 1 << 14
_MOST_CELLS = 1 << 23
_FEW_DIGITS_LOST = 1e3
"""A condition number at which squares of roots still have ten digits."""


def predicted_columns(
    fit: Estimated, rows: NewRows, tell: Callable[[Array, Array, Array | None], dict[str, Array]]
) -> pd.DataFrame:
    """Predict for some rows, a stretch of them at a time.

    `tell` makes the columns of a prediction from the linear predictor of some rows, its standard errors (both NaN where a
    value is missing) and the outcome, where known.
    """
    tables, n = _tables_of(fit), len(rows.index)
    names: list[str] = []
    block = np.empty((0, n))
    for begin in range(0, max(n, 1), _CHUNK):
        part = slice(begin, min(begin + _CHUNK, n))
        predictor, se = _by_row(fit, rows, part) if tables is None else tables.predictor(rows, part)
        found = tell(predictor, se, None if rows.observed is None else rows.observed[part])
        if not begin:
            names, block = list(found), np.empty((len(found), n))
        for own, values in zip(block, found.values(), strict=True):
            own[part] = values
    return pd.DataFrame(block.T, rows.index, names, copy=False)


def _by_row(fit: Estimated, rows: NewRows, part: slice) -> tuple[Array, Array]:
    """Lay the columns of some rows out: for any model."""
    s, size, hidden = fit.solution, part.stop - part.start, ~fit._term_columns
    inner = {int(c): k for k, c in enumerate(s.columns)}
    X, known = np.zeros((size, len(s.columns))), np.ones(size, dtype=bool)
    X[:, hidden] = s.means[hidden]
    for k, component in enumerate(components_of(fit.model_terms)):
        start, values = int(fit.moments.starts[k + 1]), np.ones(size)
        if component.numerics:
            values = component.product({v.name: rows.numerics[v.name][part] for v, _ in component.numerics})
            values = values - fit.moments.centres[k + 1]
            known &= np.isfinite(values)
        code = np.zeros(size, dtype=np.intp)
        for group in component.groups:
            own = rows.groups[group.name][part]
            known &= own >= 0
            code = code * group.size + np.maximum(own, 0)
        place = np.array([inner.get(start + level, -1) for level in range(component.size)])[code]
        told = np.flatnonzero(place >= 0)
        X[told, place[told]] = np.nan_to_num(values[told])
    found = s.at_centres[0] + (s.at_centres[1] + X @ s.lower + X @ s.coefficients)
    se = fit.inner.se(fit.inner.roots(X, np.ones(size, dtype=bool)))
    return np.where(known, found, np.nan), np.where(known, se, np.nan)


@dataclass(frozen=True, eq=False)
class _Tables:
    """The linear predictor and its variance at every joint level of the groups, as a polynomial in the numeric pieces.

    At joint level c a row is ``a_c + Σ m_k b_kc`` in the inner columns, with m its numeric multipliers, so that its predictor is
    linear in m and its variance quadratic, with coefficients that are looked up.
    """

    groups: tuple[Variable, ...]
    """The groups, the last running fastest."""
    pieces: tuple[Component, ...]
    """The components with a numeric multiplier."""
    centres: Array
    """Shape (pieces,): from where each multiplier counts."""
    start: Array
    """Shape (2 + pieces, cells): the predictor and the variance where all multipliers are 0, then twice the covariances of the
    predictor there with the slopes."""
    slopes: Array
    """Shape (pieces, cells or 1): what the predictor rises per unit of each."""
    square: Array
    """Shape (pieces, pieces, cells or 1): the covariances of the slopes."""

    def predictor(self, rows: NewRows, part: slice) -> tuple[Array, Array]:
        """Return the predictor of some rows and its standard error, NaN where a value is missing."""
        size = part.stop - part.start
        cell, known = np.zeros(size, dtype=np.intp), np.ones(size, dtype=bool)
        for group in self.groups:
            own = rows.groups[group.name][part]
            known &= own >= 0
            cell = cell * group.size + own
        if not known.all():
            cell = np.where(known, cell, 0)
        m = np.empty((len(self.pieces), size))
        for k, piece in enumerate(self.pieces):
            m[k] = piece.product({v.name: rows.numerics[v.name][part] for v, _ in piece.numerics})
        m -= self.centres[:, None]
        value, variance, *_ = here = np.array([row.take(cell, mode="clip") for row in self.start])
        if self.slopes.shape[1] == 1:  # no slope differs by a group
            value += np.dot(self.slopes[:, 0], m)
            curved = np.dot(self.square[:, :, 0], m)
        else:
            value += np.einsum("ki,ki->i", m, self.slopes.take(cell, axis=1))
            curved = np.einsum("ki,kli->li", m, self.square.take(cell, axis=2))
        curved += here[2:]
        variance += np.einsum("ki,ki->i", m, curved)
        variance[variance < 0] = 0.0
        if not known.all():  # a missing number is NaN by itself
            value[~known] = variance[~known] = np.nan
        return value, np.sqrt(variance)


def _tables_of(fit: Estimated) -> _Tables | None:
    """Make the tables of a fit; None where they would be large, or where squares would cost digits."""
    s, components = fit.solution, fit.components
    pieces = [k for k, c in enumerate(components) if c.numerics]
    groups = tuple(v for v in fit.variables if v.is_categorical)
    cells, p = math.prod(g.size for g in groups), len(s.columns)
    if (
        cells * (p + 1) * (1 + len(pieces)) > _MOST_CELLS
        or s.condition > _FEW_DIGITS_LOST
        or fit.errors.fitted is not None
    ):
        return None
    codes = dict(
        zip((g.name for g in groups), np.unravel_index(np.arange(cells), [g.size for g in groups] or [1]), strict=False)
    )
    inner = {int(c): k for k, c in enumerate(s.columns)}

    def columns(k: int) -> Array:
        """Return where a component stands at each joint level, shape (cells or 1, p)."""
        component = components[k]
        cell = np.zeros(cells if component.groups else 1, dtype=np.intp)
        for group in component.groups:
            cell = cell * group.size + codes[group.name]
        first = int(fit.moments.starts[k + 1])
        place = np.array([inner.get(first + level, -1) for level in range(component.size)])[cell]
        found = np.zeros((len(cell), p + 1))
        found[np.arange(len(cell)), place] = 1.0  # what is no inner column falls into the last, which is cut off
        return found[:, :p]

    start = np.zeros((cells, p))
    hidden = ~fit._term_columns
    start[:, hidden] = s.means[hidden]
    for k, component in enumerate(components):
        if not component.numerics:
            start = start + columns(k)
    told = [columns(k) for k in pieces]
    rows = max((len(t) for t in told), default=1)
    slopes = np.array([np.broadcast_to(t, (rows, p)) for t in told]).reshape(len(pieces), rows, p)
    root = fit.inner.roots(start, np.ones(cells, dtype=bool))
    roots = np.array([fit.inner.roots(t, np.zeros(rows, dtype=bool)) for t in slopes]).reshape(len(pieces), rows, p + 1)
    middle = fit.errors.middle
    weighed = roots * fit._sigma2 if middle is None else roots @ middle
    own = np.einsum("ij,ij->i", root, root * fit._sigma2 if middle is None else root @ middle)
    value = s.at_centres[0] + (s.at_centres[1] + start @ s.lower + start @ s.coefficients)
    linear = 2 * np.einsum("ij,kij->ki", root, np.broadcast_to(weighed, (len(pieces), cells, p + 1)))
    return _Tables(
        groups,
        tuple(components[k] for k in pieces),
        fit.moments.centres[[k + 1 for k in pieces]],
        np.vstack([value, own, linear]),
        slopes @ s.coefficients + slopes @ s.lower,
        np.einsum("kij,lij->kli", roots, weighed),
    )
