"""Probabilities averaged over the rows, with some variables set, and how they depend on the coefficients.

References
----------
Lane & Nelder (1982), Biometrics 38(3), 613-621, doi:10.2307/2530043 (predictive margins).
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.chunks import row_chunks
from markbase.core.design.coefficient_map import components_of
from markbase.core.design.mean_columns import Sample, Setting, derivative_along
from markbase.core.design.moments import Moments
from markbase.core.design.terms import CodedColumns, Component, Term, Variable, variables_of
from markbase.core.estimation.likelihood import Likelihood
from markbase.core.estimation.likelihood_points import Passed, Theta, probability
from markbase.core.estimation.shifted_rows import ShiftedRows
from markbase.core.inference.shift_nodes import shift_nodes
from markbase.core.rows.parts import each_part
from markbase.core.rows.row_functions import constant, spread_over
from markbase.core.rows.sums import totals_of
from markbase.core.study.column import Column

Array = NDArray[np.float64]
_CHUNK_ROWS = 1 << 16


@dataclass(frozen=True, eq=False)
class Averaged:
    """An average over the rows."""

    value: float
    """The average."""
    slope: Array
    """Shape (1 + p,): its derivative by the inner coefficients, the start first."""


def average_probabilities(
    rows: Likelihood, theta: Theta, columns: NDArray[np.intp], sample: Sample, settings: Sequence[Setting]
) -> list[Averaged]:
    """Average the probability of the event over the rows, with some variables set, in one pass for all settings.

    A setting has a value for a numeric column, or for a group 1 for the level it is set to; derived columns follow. Returns
    the mean of p, and Σ w p(1 − p) x / Σ w, for each.
    """
    sets: dict[tuple[int, ...], list[int]] = {}
    for k, setting in enumerate(settings):
        sets.setdefault(_moved(sample, setting), []).append(k)
    found: dict[int, tuple[Array, ...]] = {}
    by_level: dict[tuple[int, ...], list[NDArray[np.intp]]] = {}
    for moved, those in sets.items():
        own = [settings[k] for k in those]
        levels = [at for one in own if (at := _levels_set(sample, moved, one, rows.moments)) is not None]
        if len(levels) == len(own):  # what is set adds the same number in every row
            by_level[moved] = levels
        else:
            found |= zip(those, _by_row(rows, theta, moved, sample, own), strict=True)
    if by_level:
        found |= zip([k for moved in by_level for k in sets[moved]], _by_level(rows, theta, by_level), strict=True)
    return [
        Averaged(float(value / weight), np.concatenate([own[:1], own[columns]]) / weight)
        for weight, value, own in (found[k] for k in range(len(settings)))
    ]


def _moved(sample: Sample, setting: Setting) -> tuple[int, ...]:
    """Return which blocks hold something that is set."""
    followed = sample.followed(setting) if setting else setting
    return tuple(k for k, own in enumerate(components_of(sample.terms)) if any(name in followed for name in own.names))


def _by_level(
    rows: Likelihood, theta: Theta, asked: Mapping[tuple[int, ...], Sequence[NDArray[np.intp]]]
) -> Iterator[tuple[Array, ...]]:
    """Yield Σw, Σ w p and Σ w p(1 − p) x of all columns where some are 1 in every row: of each set of blocks that move, those of each setting."""
    nodes = [shift_nodes(np.array([float(theta.slopes[at].sum()) for at in some])) for some in asked.values()]
    stay = [tuple(k for k in range(len(rows.blocks)) if k not in moved) for moved in asked]
    places = list(zip(stay, [at for at, _ in nodes], strict=True))
    trees = (list(rows.blocks), rows.event, rows.used, rows.weights)
    weight, *sums = totals_of(each_part(partial(_averaged_at_shifts, theta, rows.moments, places), *trees))
    for some, (_, shares), value, own in zip(asked.values(), nodes, sums[::2], sums[1::2], strict=True):
        for at, own_value, own_sums in zip(some, shares @ value, shares @ own, strict=True):
            own_sums[at] = own_sums[0]
            yield weight, own_value, own_sums


def _by_row(
    rows: Likelihood, theta: Theta, moved: tuple[int, ...], sample: Sample, settings: Sequence[Setting]
) -> Iterator[tuple[Array, ...]]:
    """Yield the same where what is set differs by row, one a setting."""
    changed = [replace_in(rows, sample, setting).blocks for setting in settings]
    stay = tuple(k for k in range(len(rows.blocks)) if k not in moved)
    trees: list[Any] = [[rows.blocks[k] for k in stay], [[blocks[k] for k in moved] for blocks in changed]]
    trees += [rows.event, rows.used, rows.weights]
    weight, values, sums = totals_of(each_part(partial(_averaged, theta, rows.moments, stay, moved), *trees))
    for value, own in zip(values, sums, strict=True):
        yield weight, value, own


def _levels_set(sample: Sample, moved: Sequence[int], setting: Setting, moments: Moments) -> NDArray[np.intp] | None:
    """Return the columns that are 1 in every row by a setting that is of levels alone; None if it sets more, or half of a product."""
    followed = sample.followed(setting)
    at = []
    for k in moved:
        component = components_of(sample.terms)[k]
        if component.numerics or any(g.name not in followed for g in component.groups):
            return None
        code = 0
        for group in component.groups:
            code = code * group.size + int(np.argmax(followed[group.name]))
        at.append(int(moments.starts[k + 1]) + code)
    return np.array(at, dtype=np.intp)


def _averaged_at_shifts(
    theta: Theta,
    moments: Moments,
    asked: Sequence[tuple[tuple[int, ...], Array]],
    blocks: Sequence[CodedColumns],
    event: Array,
    used: NDArray[np.bool_] | None,
    weights: Array | None,
) -> tuple[Array, ...]:
    """Return what `ShiftedRows.averages_at` does."""
    return ShiftedRows(blocks, event, used, weights, moments).averages_at(theta, asked)


def _averaged(
    theta: Theta,
    moments: Moments,
    stay: tuple[int, ...],
    moved: tuple[int, ...],
    blocks: Sequence[CodedColumns],
    changed: Sequence[Sequence[CodedColumns]],
    event: Array,
    used: NDArray[np.bool_] | None,
    weights: Array | None,
) -> tuple[Array, ...]:
    """Return Σw, and for each set of changed columns Σ w p, and Σ w p(1 − p) x of all columns."""
    values, sums = np.zeros(len(changed)), np.zeros((len(changed), moments.cross.shape[0]))
    weight, none = 0.0, Theta(0.0, theta.slopes)
    for chunk in row_chunks(
        len(event), used, _CHUNK_ROWS
    ):  # what is set changes few columns: the others are looked at once
        w = None if weights is None else weights[chunk]
        weight += len(event[chunk]) if w is None else float(w.sum())
        common = Likelihood(_some(blocks, chunk), event[chunk], None, w, moments, stay)
        still = common.predictor_of(theta)
        for k, own in enumerate(changed):
            other = Likelihood(_some(own, chunk), event[chunk], None, w, moments, moved)
            p = probability(still + other.predictor_of(none))
            curvature = p * (1 - p)
            if w is not None:
                p, curvature = p * w, curvature * w
            values[k] += p.sum()
            own_sums = other.sums_of(curvature)
            own_sums[0] = 0.0  # the start is among those of the columns that stay
            sums[k] += common.sums_of(curvature) + own_sums
    return np.asarray(weight), values, sums


def _some(blocks: Sequence[CodedColumns], chunk: slice | NDArray[np.intp]) -> list[CodedColumns]:
    """Return some rows of columns."""
    return [
        CodedColumns(
            b.levels,
            None if b.codes is None else b.codes[chunk],
            None if b.multiplier is None else b.multiplier[chunk],
        )
        for b in blocks
    ]


def replace_in(rows: Likelihood, sample: Sample, setting: Setting) -> Likelihood:
    """Return the rows with some variables set, the same value in every row, and derived columns with them."""
    if not setting:
        return rows
    setting = sample.followed(setting)
    coded = []
    for component, own in zip(components_of(sample.terms), rows.blocks, strict=True):
        coded.append(
            changed_component(component, sample, setting) if any(n in setting for n in component.names) else own
        )
    return Likelihood(coded, rows.event, rows.used, rows.weights, rows.moments)


def changed_component(component: Component, sample: Sample, setting: Setting) -> CodedColumns:
    """Return a component with its variables as they are set."""
    variables = (*(v for v, _ in component.numerics), *component.groups)
    codes: NDArray[np.integer] | None = None
    for group in component.groups:
        own = group.codes
        if group.name in setting:
            own = constant(int(np.argmax(setting[group.name])), variables[0].column.values)
        codes = own if codes is None else np.where((codes < 0) | (own < 0), -1, codes * group.size + own)
    if not component.numerics:
        return CodedColumns(component.size, codes)
    values = {v.name: _values(v, sample, setting) for v, _ in component.numerics}
    return CodedColumns(component.size, codes, component.product(values))


def _values(variable: Variable, sample: Sample, setting: Setting) -> Array:
    if variable.name not in setting:
        values: Array = variable.column.values
        return values
    found: Array = spread_over(setting[variable.name], sample.inside, variable.column.values)
    return found


def average_slopes(
    rows: Likelihood, theta: Theta, passed: Passed, columns: NDArray[np.intp], sample: Sample, names: Sequence[str]
) -> list[Averaged]:
    """Average by how much the probability rises per unit of each of some numeric columns, all as they are in the rows.

    As `average_slope`, one for each; of those that enter by a slope that is the same in every row, from what a pass at these
    coefficients found in each row.
    """
    alone = {name: _alone(sample, name) for name in names}
    moments = rows.moments
    if any(k is not None for k in alone.values()):
        trees = (list(rows.blocks), rows.event, rows.used, rows.weights, passed.curvature, passed.score)
        weight, curvature, bent = totals_of(each_part(partial(_curvatures, moments), *trees))
    found = []
    for name, k in alone.items():
        if k is None:
            found.append(average_slope(rows, theta, columns, sample, name, {}))
            continue
        start = int(moments.starts[k + 1])
        sums = bent * theta.slopes[start]
        sums[start] += curvature
        slope = np.concatenate([sums[:1], sums[columns]]) / weight
        found.append(Averaged(float(curvature * theta.slopes[start] / weight), slope))
    return found


def _alone(sample: Sample, name: str) -> int | None:
    """Return the component that a numeric column is by itself, if nothing else moves with it."""
    touched = [k for k, c in enumerate(components_of(sample.terms)) if name in c.names]
    derived = any(_rests_on(v.column, name) for v in variables_of(sample.terms).values() if v.name != name)
    if derived or len(touched) != 1:
        return None
    component = components_of(sample.terms)[touched[0]]
    return touched[0] if component.degree == 1 and not component.groups else None


def _rests_on(column: Column, name: str) -> bool:
    """Return whether a column was derived from another."""
    sources = column.made.sources if column.made is not None else ()
    return any(source.name == name or _rests_on(source, name) for source in sources)


def _curvatures(
    moments: Moments,
    blocks: Sequence[CodedColumns],
    event: Array,
    used: NDArray[np.bool_] | None,
    weights: Array | None,
    curvature: Array,
    score: Array,
) -> tuple[Array, ...]:
    """Return Σw, Σ w p(1 − p), and Σ w p(1 − p)(1 − 2p) x of all columns."""
    own = Likelihood(blocks, event, used, weights, moments)
    heavy = np.ones(len(event)) if weights is None else weights
    heavy = heavy if used is None else np.where(used, heavy, 0.0)
    miss = np.divide(score, heavy, out=np.zeros(len(event)), where=heavy > 0)  # event − p
    bent = own.sums_of(curvature * (1 - 2 * (event - miss)))
    return np.asarray(heavy.sum()), np.asarray(curvature.sum()), bent


def average_slope(
    rows: Likelihood, theta: Theta, columns: NDArray[np.intp], sample: Sample, numeric: str, setting: Setting
) -> Averaged:
    """Average by how much the probability rises per unit of a numeric column (the average marginal effect).

    Columns derived from it rise with it; `setting` says where variables are held, itself included. Returns the mean of
    ``p(1 − p) s``, with s the slope of the linear predictor in that row, and its derivative.
    """
    changed = replace_in(rows, sample, setting)
    followed = sample.followed(setting)
    moments = rows.moments
    moving: list[tuple[int, int, NDArray[np.integer] | None]] = []
    rises: list[Array] = []
    for k, component in enumerate(components_of(sample.terms)):
        rise = _rise(component, sample, followed, numeric, rows.event)
        if rise is not None:
            moving.append((int(moments.starts[k + 1]), component.size, changed.blocks[k].codes))
            rises.append(rise)
    bare = [(start, size) for start, size, _ in moving]

    def averaged(
        blocks: Sequence[CodedColumns],
        event: Array,
        used: NDArray[np.bool_] | None,
        weights: Array | None,
        rises: Sequence[Array],
        codes: Sequence[NDArray[np.integer] | None],
    ) -> tuple[Array, ...]:
        own = Likelihood(blocks, event, used, weights, moments)
        slope = np.zeros(len(event))
        with np.errstate(invalid="ignore"):
            for (start, size), rise, at in zip(bare, rises, codes, strict=True):
                slope += theta.slopes[start] * rise if at is None else theta.slopes[start : start + size][at] * rise
        if used is not None:
            slope[~used] = 0.0
        curvature = own.pass_at(theta)[1].curvature  # weight times p(1 − p), 0 where not used
        p = probability(np.nan_to_num(own.predictor_of(theta)))
        heavy = np.ones(len(event)) if weights is None else weights
        weight = heavy.sum() if used is None else heavy[used].sum()
        curvature = curvature if used is None else np.where(used, curvature, 0.0)
        with np.errstate(invalid="ignore"):  # steep without bound in some rows: no finite average
            sums = own.sums_of(curvature * (1 - 2 * p) * slope)
            for (start, size), rise, at in zip(bare, rises, codes, strict=True):
                moved = curvature * np.where(curvature > 0, rise, 0.0)
                if at is None:
                    sums[start] += moved.sum()
                else:
                    sums[start : start + size] += np.bincount(np.maximum(at, 0), weights=moved, minlength=size)
            return np.asarray(weight), np.asarray(curvature @ slope), sums

    codes = [at for _, _, at in moving]
    trees = (list(changed.blocks), rows.event, rows.used, rows.weights, rises, codes)
    weight, value, sums = totals_of(each_part(averaged, *trees))
    return Averaged(float(value / weight), np.concatenate([sums[:1], sums[columns]]) / weight)


def _rise(component: Component, sample: Sample, setting: Setting, numeric: str, event: Array) -> Array | None:
    """Return by how much the numeric part of a component rises per unit of a column in each row; None if it does not."""
    total: Array | None = None
    for moving, power in component.numerics:
        along = derivative_along(moving.column, numeric, setting, sample.inside)
        if along is None:
            continue
        rise = spread_over(along, sample.inside, event)
        with np.errstate(invalid="ignore"):  # steep without bound in some rows
            for variable, exponent in component.numerics:
                lower = exponent - 1 if variable is moving else exponent
                factor = power if variable is moving else 1
                rise = rise * factor * (_values(variable, sample, setting) - component.shift_of(variable)) ** lower
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
