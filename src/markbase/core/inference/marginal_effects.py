"""Probabilities averaged over the rows, with some variables set, and how they depend on the coefficients.

References
----------
Lane & Nelder (1982), Biometrics 38(3), 613-621, doi:10.2307/2530043 (predictive margins).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.coefficient_map import components_of
from markbase.core.design.mean_columns import Sample, Setting, derivative_along
from markbase.core.design.terms import CodedColumns, Component, Term, Variable
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
    rows: Rows, theta: Theta, columns: NDArray[np.intp], sample: Sample, setting: Setting
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
    sample : Sample
        Its terms and rows.
    setting : mapping
        A value for a numeric column; for a group 1 for the level it is set to. Derived columns follow.

    Returns
    -------
    Averaged
        The mean of p, and Σ w p(1 − p) x / Σ w.
    """
    changed = replace_in(rows, sample, setting)
    point, passed = changed.pass_at(theta)
    heavy = np.ones(len(rows.event)) if rows.weights is None else rows.weights
    if rows.used is not None:
        heavy = np.where(rows.used, heavy, 0.0)
    weight, happened = float(heavy.sum()), float(heavy @ rows.event)
    value = (happened - point.missed[0] + point.missed[1]) / weight
    sums = changed.sums_of(passed.curvature) / weight
    return Averaged(value, np.concatenate([sums[:1], sums[columns]]))


def replace_in(rows: Rows, sample: Sample, setting: Setting) -> Rows:
    """Return the rows with some variables set, the same value in every row, and derived columns with them."""
    if not setting:
        return rows
    setting = sample.followed(setting)
    coded = []
    for component, own in zip(components_of(sample.terms), rows.blocks, strict=True):
        coded.append(
            changed_component(component, sample, setting) if any(n in setting for n in component.names) else own
        )
    return Rows(coded, rows.event, rows.used, rows.weights, rows.moments)


def changed_component(component: Component, sample: Sample, setting: Setting) -> CodedColumns:
    """Return a component with its variables as they are set."""
    variables = (*(v for v, _ in component.numerics), *component.groups)
    rows = len(variables[0].column.values)
    codes: NDArray[np.integer] | None = None
    for group in component.groups:
        own = np.full(rows, int(np.argmax(setting[group.name]))) if group.name in setting else group.codes
        codes = own if codes is None else np.where((codes < 0) | (own < 0), -1, codes * group.size + own)
    if not component.numerics:
        return CodedColumns(component.size, codes)
    values = {v.name: _values(v, sample, setting, rows) for v, _ in component.numerics}
    return CodedColumns(component.size, codes, component.product(values))


def _values(variable: Variable, sample: Sample, setting: Setting, rows: int) -> Array:
    if variable.name not in setting:
        values: Array = variable.column.values
        return values
    full = np.full(rows, np.nan)
    full[sample.inside] = setting[variable.name]
    return full


def average_slope(
    rows: Rows, theta: Theta, columns: NDArray[np.intp], sample: Sample, numeric: str, setting: Setting
) -> Averaged:
    """Average by how much the probability rises per unit of a numeric column (the average marginal effect).

    Parameters
    ----------
    rows, theta, columns, sample
        As for `average_probability`.
    numeric : str
        The numeric column; columns derived from it rise with it.
    setting : mapping
        Where variables are held, itself included; nothing for all as they are.

    Returns
    -------
    Averaged
        The mean of ``p(1 − p) s``, with s the slope of the linear predictor in that row, and its derivative.
    """
    changed = replace_in(rows, sample, setting)
    followed = sample.followed(setting)
    moments = rows.moments
    slope = np.zeros(len(rows.event))
    own: list[tuple[int, int, NDArray[np.integer] | None, Array]] = []
    for k, component in enumerate(components_of(sample.terms)):
        rise = _rise(component, sample, followed, numeric, len(rows.event))
        if rise is None:
            continue
        start, codes = int(moments.starts[k + 1]), changed.blocks[k].codes
        if codes is None:
            slope += theta.slopes[start] * rise
        else:
            slope += theta.slopes[start : start + component.size][codes] * rise
        own.append((start, component.size, codes, rise))
    if rows.used is not None:
        slope[~rows.used] = 0.0
    _, passed = changed.pass_at(theta)
    curvature = passed.curvature  # weight times p(1 − p), 0 where not used
    p = probability(np.nan_to_num(changed.predictor_of(theta)))
    heavy = np.ones(len(rows.event)) if rows.weights is None else rows.weights
    weight = float(heavy.sum() if rows.used is None else heavy[rows.used].sum())
    curvature = curvature if rows.used is None else np.where(rows.used, curvature, 0.0)
    sums = changed.sums_of(curvature * (1 - 2 * p) * slope)
    for start, size, codes, rise in own:
        moved = curvature * np.nan_to_num(rise)
        if codes is None:
            sums[start] += moved.sum()
        else:
            sums[start : start + size] += np.bincount(np.maximum(codes, 0), weights=moved, minlength=size)
    return Averaged(float(curvature @ slope) / weight, np.concatenate([sums[:1], sums[columns]]) / weight)


def _rise(component: Component, sample: Sample, setting: Setting, numeric: str, rows: int) -> Array | None:
    """Return by how much the numeric part of a component rises per unit of a column in each row; None if it does not."""
    total: Array | None = None
    for moving, power in component.numerics:
        along = derivative_along(moving.column, numeric, setting, sample.inside)
        if along is None:
            continue
        rise = np.full(rows, np.nan)
        rise[sample.inside] = along
        for variable, exponent in component.numerics:
            lower = exponent - 1 if variable is moving else exponent
            factor = power if variable is moving else 1
            rise = rise * factor * (_values(variable, sample, setting, rows) - component.shift_of(variable)) ** lower
        total = rise if total is None else total + rise
    return total


def logit_interval(value: float, se: float, half: float) -> tuple[float, float]:
    """Return an interval for a probability that is even in log odds, and so stays between 0 and 1."""
    if not 0 < value < 1:
        return value, value
    middle, reach = np.log(value / (1 - value)), half * se / (value * (1 - value))
    low, high = probability(np.array([middle - reach, middle + reach]))
    return float(low), float(high)


def known_profile(parts: Sequence[Term], setting: Mapping[str, object]) -> bool:
    """Return whether a setting says everything the model needs."""
    return all(name in setting for t in parts for name in t.names)
