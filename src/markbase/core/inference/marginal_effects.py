"""Probabilities averaged over the rows, with some variables set, and how they depend on the coefficients.

References
----------
Lane & Nelder (1982), Biometrics 38(3), 613-621, doi:10.2307/2530043 (predictive margins).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.mean_columns import Setting
from markbase.core.design.moments import Moments
from markbase.core.design.terms import Term
from markbase.core.estimation.likelihood import Rows, Theta, probability

Array = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Averaged:
    """An average over the rows."""

    value: float
    """The average."""
    slope: Array
    """Shape (1 + p,): its derivative by the inner coefficients, the start first."""


def average_probability(
    rows: Rows, theta: Theta, columns: NDArray[np.intp], parts: Sequence[Term], setting: Setting
) -> Averaged:
    """Average the probability of the event over the rows, with some variables set.

    Parameters
    ----------
    rows : Rows
        The rows of the fit.
    theta : Theta
        Its coefficients.
    columns : ndarray of int, shape (p,)
        Its inner columns.
    parts : sequence of Term
        Its terms.
    setting : mapping
        A value for a numeric column; for a group 1 for the level it is set to.

    Returns
    -------
    Averaged
        The mean of p, and Σ w p(1 − p) x / Σ w.
    """
    changed = replace_in(rows, parts, setting)
    point = changed.pass_at(theta)
    heavy = np.ones(len(rows.event)) if rows.weights is None else rows.weights
    if rows.used is not None:
        heavy = np.where(rows.used, heavy, 0.0)
    weight, happened = float(heavy.sum()), float(heavy @ rows.event)
    value = (happened - point.missed[0] + point.missed[1]) / weight
    sums = changed.sums_of(changed.curvature) / weight
    return Averaged(value, np.concatenate([sums[:1], sums[columns]]))


def replace_in(rows: Rows, parts: Sequence[Term], setting: Setting) -> Rows:
    """Return the rows with some variables set, the same value in every row."""
    if not setting:
        return rows
    blocks = []
    for term, block in zip(parts, rows.blocks, strict=True):
        if any(name in setting for name in term.variables):
            blocks.append(_set(term, setting).block())
        else:
            blocks.append(block)
    return Rows(blocks, rows.event, rows.used, rows.weights, rows.moments)


def _set(term: Term, setting: Setting) -> Term:
    if term.parts:
        parts = tuple(_set(p, setting) for p in term.parts)
        return replace(term, parts=parts, column=parts[0].column)
    if term.name not in setting:
        return term
    values = term.column.values
    if term.is_categorical:
        place = term.places[int(np.argmax(setting[term.name]))]
        return replace(term, column=replace(term.column, values=np.full(len(values), place, dtype=values.dtype)))
    value = float(setting[term.name])
    return replace(term, column=replace(term.column, values=np.full(len(values), value)))


def average_slope(rows: Rows, theta: Theta, columns: NDArray[np.intp], parts: Sequence[Term], numeric: str) -> Averaged:
    """Average by how much the probability rises per unit of a numeric column (the average marginal effect).

    Parameters
    ----------
    rows, theta, columns, parts
        As for `average_probability`.
    numeric : str
        The numeric column.

    Returns
    -------
    Averaged
        The mean of ``p(1 − p) s``, with s the slope of the linear predictor in that row, and its derivative.
    """
    moments: Moments = rows.moments
    slope = np.zeros(len(rows.event))
    own: list[tuple[int, int, NDArray[np.integer] | None]] = []
    for k, term in enumerate(parts, 1):
        start = int(moments.starts[k])
        if term.kind == "numeric" and term.name == numeric:
            slope += theta.slopes[start]
            own.append((start, 1, None))
        elif term.kind == "slope" and term.variables[0] == numeric:
            codes = rows.blocks[k - 1].codes
            assert codes is not None
            slope += theta.slopes[start : start + term.size][codes]
            own.append((start, term.size, codes))
    rows.pass_at(theta)
    curvature = rows.curvature  # weight times p(1 − p), 0 where not used
    p = probability(np.nan_to_num(rows.predictor_of(theta)))
    heavy = np.ones(len(rows.event)) if rows.weights is None else rows.weights
    weight = float(heavy.sum() if rows.used is None else heavy[rows.used].sum())
    curvature = curvature if rows.used is None else np.where(rows.used, curvature, 0.0)
    sums = rows.sums_of(curvature * (1 - 2 * p) * slope)
    for start, size, codes in own:
        if codes is None:
            sums[start] += curvature.sum()
        else:
            sums[start : start + size] += np.bincount(np.maximum(codes, 0), weights=curvature, minlength=size)
    return Averaged(float(curvature @ slope) / weight, np.concatenate([sums[:1], sums[columns]]) / weight)


def logit_interval(value: float, se: float, half: float) -> tuple[float, float]:
    """Return an interval for a probability that is even in log odds, and so stays between 0 and 1."""
    if not 0 < value < 1:
        return value, value
    middle, reach = np.log(value / (1 - value)), half * se / (value * (1 - value))
    low, high = probability(np.array([middle - reach, middle + reach]))
    return float(low), float(high)


def known_profile(parts: Sequence[Term], setting: Mapping[str, object]) -> bool:
    """Return whether a setting says everything the model needs."""
    return all(name in setting for t in parts for name in t.variables)
