"""Whether rows that follow one another in time are alike in what a model misses: serial correlation.

With e = Mε the residuals and A the matrix that takes half of the row before and half of the row after, r = eᵀAe / eᵀe. For independent rows
of one variance r has the mean tr(MA)/m and the variance 2(m·tr((MA)²) − tr(MA)²)/(m²(m + 2)), m the rows over; p is that of a beta
distribution over −1 to 1 with these moments. With levels taken out the mean lies well below 0: −1/T of levels of T rows. Of a logistic model e are
Pearson's residuals, and the columns of M are weighted by the curvature of the likelihood.

References
----------
Durbin & Watson (1950), Biometrika 37(3-4), 409-428, doi:10.1093/biomet/37.3-4.409, and (1951), Biometrika 38(1-2), 159-177,
doi:10.1093/biomet/38.1-2.159, for d, the moments and the beta distribution; of a panel Bhargava, Franzini & Narendranathan (1982), Review
of Economic Studies 49(4), 533-549, doi:10.2307/2297285.
Bertrand, Duflo & Mullainathan (2004), Quarterly Journal of Economics 119(1), 249-275, doi:10.1162/003355304772839588 (errors of panels).
"""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np
import scipy.special as sp
from numpy.typing import NDArray

from markbase.core.checks.hidden_groups import Alike, is_told, misses, one_way
from markbase.core.design.repeated_rows import same_within
from markbase.core.design.terms import Variable, single
from markbase.core.diagnostics.residuals import Finding
from markbase.core.errors import ColumnError, MarkbaseError, without_remarks
from markbase.core.formatting import number, p_phrase
from markbase.core.inference.serial_errors import FEWEST_PERIODS
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic_estimate import whitened_columns
from markbase.core.rows.parts import in_parts, needs_all
from markbase.core.study.column import Column
from markbase.core.study.time_order import are_times, times_of
from markbase.core.tables import records_of

Array = NDArray[np.float64]
_SURE, _MATTERS, _FEWEST = 0.001, 0.2, 10
"""Nobody asked: p below, a correlation so much above what is expected, and so many pairs of rows, are told."""
_NEARLY_ALL = 0.9
"""The share of rows that have a time by which they are put in order unasked."""
_MOST_ROWS = 200_000
"""So many rows are asked unasked."""
_SAME = 1e-12
"""Of levels of two rows the one residual is the other's opposite, and the correlation is the same whatever the rows."""
_MOST_CELLS = 4_000_000
"""Of more rows times columns, what the terms take of the moments, which is little then, is left out."""


class Following(NamedTuple):
    """How alike rows are that follow one another in time, in what a model misses."""

    column: str
    """What puts them in order; empty for numbers that were given."""
    unit: str
    """Within whose levels they follow one another; empty for all rows as one series."""
    correlation: float
    """Of a residual with the one before; NaN where no two rows follow one another."""
    expected: float
    """What it is on average for independent rows."""
    statistic: float
    """Durbin and Watson's d."""
    p: float
    """Of the correlation, both ways; NaN where the outcome of the row before is a term."""
    lagged: str
    """The term that is the outcome of an earlier row; empty for none."""
    together: bool
    """Whether errors allow for it: by periods, or by clusters in which rows that follow one another always lie."""

    @property
    def is_sure(self) -> bool:
        """Whether it is told of a fit that nobody checked: less is much within levels of few rows, where the correlation has little room."""
        return self.p < _SURE and self.correlation - self.expected > _MATTERS * (1 + 2 * self.expected)


class BeforeAfter(NamedTuple):
    """A group of two levels, one of which came after the other."""

    column: str
    """What tells the time."""
    earlier: str
    """The level that came first."""
    later: str
    """The other."""
    estimate: float
    """The coefficient of the level that is not the base beside a straight line over time; NaN where the rows do not tell the two apart."""
    p: float
    """Its p."""


class SharedTimes(NamedTuple):
    """Rows of several units at the same times, alike at each of them, where a term of the model is the same for all of these."""

    alike: Alike
    """How alike rows of one time are, beyond their units; which term is the same in all of them."""
    unit: str
    """What rows belong to: the levels taken out, or the clusters."""

    @property
    def way(self) -> str:
        """What would do."""
        if self.alike.levels >= FEWEST_PERIODS:
            return f"take errors robust to serial correlation (HAC, by `{self.alike.column}`), which allow for both"
        return f"take errors clustered two ways, by `{self.unit}` and by `{self.alike.column}`"


class _Series(NamedTuple):
    """Rows used in the order of time."""

    rows: NDArray[np.intp]
    """Their places among the rows used."""
    follows: NDArray[np.bool_]
    """Shape (rows − 1,): whether a row follows the one before it, and is of the same unit."""
    units: NDArray[np.intp]
    """Shape (rows,): the unit of each."""


def following(fit: AnyFit, column: Column | None = None, times: Array | None = None) -> Following | None:
    """Return how alike rows are that follow one another by a column, or by times of all rows; by a column that tells them apart if neither is given.

    None if nothing puts them in order. Rows without a time follow none.
    """
    inside = slice(None) if fit.used is None else fit.used
    if times is not None or column is not None:
        every = times_of(column) if times is None and column is not None else times
        assert every is not None
        unit = _unit(fit)
        series = _in_order(every[inside], None if unit is None else unit[1][inside])
        return _found(fit, "" if column is None else column.name, "" if unit is None else unit[0], series)
    found = _timed(fit)
    return None if found is None else _found(fit, found[0].name, found[1], found[2])


def shared_times(fit: AnyFit) -> SharedTimes | None:
    """Return that rows of one time are alike, for which errors do not allow, and a term is the same in all of them; None where that is not sure."""
    timed = None if fit.weights is not None or fit.exact or fit.time is not None else _timed(fit)
    e = None if timed is None else misses(fit)
    if timed is None or e is None or not timed[1]:
        return None
    column, unit, _ = timed
    if column.name in (*fit.fixed_effect_names, *(kind.name for kind in fit.drawn_by.clusters)):
        return None
    inside = slice(None) if fit.used is None else fit.used
    times = times_of(column)[inside]
    codes = np.unique(times, return_inverse=True)[1]
    same = next((v.name for v in fit.variables if same_within(v.column.values[inside], codes)), "")
    found = _unit(fit)
    if not same or np.isnan(times).any() or found is None:
        return None
    units = np.unique(found[1][inside], return_inverse=True)[1]
    counts = np.bincount(units)
    alike = one_way(column.name, e - (np.bincount(units, weights=e) / counts)[units], codes, taken=len(counts) - 1)
    alike = None if alike is None else alike._replace(same=same)
    return SharedTimes(alike, unit) if alike is not None and is_told(alike) else None


def following_by(fit: AnyFit, order: Any) -> Following | None:
    """Return the same by what is given, a column or a value a row, else by a column that tells when rows were measured; raises as the checks of a fit."""
    if order is None:
        return None if fit.weights is not None else following(fit)
    if in_parts(fit.outcome.values):
        raise needs_all("putting rows in order, to look for serial correlation,")
    if not isinstance(order, Column):
        order = np.asarray(order, dtype=np.float64)
    rows = len(order.values) if isinstance(order, Column) else order.size
    if rows != fit.sample.rows:
        raise MarkbaseError(
            f"The order has {rows:,} values, and the data {fit.sample.rows:,} rows: give one for each row."
        )
    return following(fit, order) if isinstance(order, Column) else following(fit, times=order)


def _timed(fit: AnyFit) -> tuple[Column, str, _Series] | None:
    """Return the first column that tells rows apart by their times, within all or within levels; the name of these, and the rows in order. Very many are not asked."""
    inside = slice(None) if fit.used is None else fit.used
    unit = _unit(fit)
    for column in filter(are_times, fit.timed_by if fit.sample.used <= _MOST_ROWS else ()):
        try:
            every = times_of(column)[inside]
        except ColumnError:  # dates of which nothing says what stands first
            continue
        for name, codes in [("", None), *([] if unit is None else [(unit[0], unit[1][inside])])]:
            series = _in_order(every, codes)
            told = len(series.rows) >= _NEARLY_ALL * len(every) and np.count_nonzero(series.follows) >= _FEWEST
            if told and _apart(every, series):
                return column, name, series
    return None


@without_remarks()
def before_and_after(fit: LinearFit, variable: Variable) -> BeforeAfter | None:
    """Return that all rows of one of two levels are later than those of the other, where a column tells rows apart by their times and no term rises with it."""
    timed = _timed(fit) if variable.size == 2 and variable.column.scheme == "indicator" else None
    if timed is None:
        return None
    column, _, series = timed
    inside = slice(None) if fit.used is None else fit.used
    times, codes = times_of(column)[inside], variable.column.values[inside]
    first, second = (times[codes == k] for k in variable.places)
    if not (first.max() < second.min() or second.max() < first.min()):
        return None
    for own in (v.column for v in fit.variables if not v.is_categorical):
        values = own.values[inside][series.rows]
        if np.all(np.diff(values)[series.follows] > 0):  # the trend stands in the model
            return None
    earlier, later = variable.labels if first.max() < second.min() else variable.labels[::-1]
    whole = np.full(fit.sample.rows, np.nan)
    whole[inside] = times
    (more,) = fit._with_each([single(Column(column.name, "numeric", whole))])
    if more is None:
        return BeforeAfter(column.name, earlier, later, math.nan, math.nan)
    row = next(r for r in records_of(more.coefficients) if r["term"] == variable.name and not r["base"])
    return BeforeAfter(column.name, earlier, later, float(row["estimate"]), float(row["p"]))


def _unit(fit: AnyFit) -> tuple[str, NDArray[np.intp]] | None:
    """Return what rows belong to that may follow one another: the levels taken out, or the clusters; None for no such thing, and of a logistic fit."""
    if not isinstance(fit, LinearFit):
        return None
    if fit.fixed_effects is not None:
        return fit.fixed_effects.names[0], fit.fixed_effects.codes
    if fit.cluster is not None:
        return fit.cluster.name, fit.cluster.values
    return None


def _in_order(times: Array, units: NDArray[np.intp] | None) -> _Series:
    """Put rows that have a time in order; those of the same time stay in the order of the file."""
    rows = np.flatnonzero(~np.isnan(times))
    rows = rows[np.argsort(times[rows], kind="stable")]
    if units is not None:
        rows = rows[np.argsort(units[rows], kind="stable")]
    own = np.zeros(len(rows), dtype=np.intp) if units is None else units[rows].astype(np.intp)
    return _Series(rows, own[1:] == own[:-1], own)


def _apart(times: Array, series: _Series) -> bool:
    """Return whether no two rows of a unit are of the same time."""
    return bool(np.all(np.diff(times[series.rows])[series.follows] > 0))


def _found(fit: AnyFit, column: str, unit: str, series: _Series) -> Following | None:
    every = misses(fit)
    if every is None:
        return None
    e, square = every[series.rows], float(every @ every)
    lagged = [v.name for v in fit.variables if _is_before(fit, v.column)]
    together = _are_together(fit, series)
    if not series.follows.any():
        return Following(column, unit, math.nan, math.nan, math.nan, math.nan, "".join(lagged[:1]), together)
    r = float(e[1:][series.follows] @ e[:-1][series.follows]) / square
    d = float(np.sum(np.diff(e)[series.follows] ** 2)) / square
    mean, variance = _moments(fit, unit, series)
    p = math.nan if lagged or variance < _SAME else _p_of(r, mean, variance)
    return Following(column, unit, r, mean, d, p, "".join(lagged[:1]), together)


def _is_before(fit: AnyFit, column: Column) -> bool:
    return column.made is not None and column.made.how == "lag" and column.made.of[0] == fit.outcome.name


def _are_together(fit: AnyFit, series: _Series) -> bool:
    """Return whether errors allow for serial correlation, or rows that follow one another are always of one cluster."""
    if fit.time is not None:
        return True
    inside = slice(None) if fit.used is None else fit.used
    each = [column.values[inside][series.rows] for column in fit.drawn_by.clusters]
    return any(bool(np.all((own[1:] == own[:-1])[series.follows])) for own in each)


def _moments(fit: AnyFit, unit: str, series: _Series) -> tuple[float, float]:
    """Return the mean and variance of the correlation for independent rows of one variance."""
    pairs, sizes = int(np.count_nonzero(series.follows)), np.bincount(series.units)
    inside = slice(None) if fit.used is None else fit.used
    trace, square, levels = 0.0, pairs / 2, None
    m = fit.rows_over if isinstance(fit, LinearFit) else fit.sample.used - len(fit.solution.columns) - 1
    fixed = fit.fixed_effects if isinstance(fit, LinearFit) else None
    if (
        fixed is not None and unit == fixed.names[0]
    ):  # A becomes what is left of it within levels of n rows, T of them in order
        levels = np.bincount(fixed.codes[inside])[: len(sizes)].astype(np.float64)
        T, n = sizes[sizes > 1].astype(np.float64), levels[sizes > 1]
        trace -= float(np.sum((T - 1) / n))
        square += float(np.sum(((T - 1) / n) ** 2 - 2 * (T - 1.5) / n))
    width = len(fit.solution.columns) + 1
    if fit.weights is None and fit.sample.rows * width <= _MOST_CELLS:
        Q = np.empty((fit.sample.rows, width))
        whitened = (
            fit._whitened
            if isinstance(fit, LinearFit)
            else whitened_columns(fit.likelihood, fit.passed, fit.information)
        )
        for chunk, own, _, curvature in whitened.chunks():
            Q[chunk] = own if isinstance(fit, LinearFit) else own * np.sqrt(curvature)[:, None]
        Q = Q[inside][series.rows]
        if levels is not None:  # which hold the mean
            Q = Q[:, 1:]
        moved, follows = np.zeros_like(Q), series.follows[:, None]
        moved[1:] += np.where(follows, Q[:-1], 0.0) / 2
        moved[:-1] += np.where(follows, Q[1:], 0.0) / 2
        inner = Q.T @ moved
        trace -= float(np.trace(inner))
        square += float(np.sum(inner**2)) - 2 * float(np.sum(moved**2))
        if levels is not None:
            sums = np.zeros((len(sizes), moved.shape[1]))
            np.add.at(sums, series.units, moved)
            square += 2 * float(np.sum(sums[sizes > 0] ** 2 / levels[sizes > 0, None]))
    mean = trace / m
    return mean, 2 * (m * square - trace**2) / (m**2 * (m + 2))


def _p_of(r: float, mean: float, variance: float) -> float:
    """Return p, both ways, by the beta distribution over −1 to 1 of a mean and variance."""
    share = (1 + mean) / 2
    size = share * (1 - share) / (variance / 4) - 1
    a, b, at = share * size, (1 - share) * size, min(max((1 + r) / 2, 0.0), 1.0)
    return float(min(1.0, 2 * min(sp.betainc(a, b, at), sp.betaincc(a, b, at))))


def following_finding(fit: AnyFit, found: Following) -> Finding:
    """Say among the checks whether rows that follow one another are alike, and what would do."""
    if math.isnan(found.correlation):
        return Finding("order", "no two rows follow one another", "serial correlation cannot be looked at", "")
    if math.isnan(found.p) and not found.lagged:
        pairs = (
            f"rows of one `{found.unit}` are two at most" if found.unit else "rows are hardly more than coefficients"
        )
        return Finding(
            "order",
            pairs,
            "what the model misses in the one is the opposite of the other: serial correlation cannot be looked at",
            "",
        )
    figures = f"{_by(found)}correlation with the one before{_of_unit(found)} {number(found.correlation, 2)}"
    if found.lagged:
        mind = f"`{found.lagged}` is the outcome itself, earlier, which draws this correlation towards 0: Durbin and Watson's d does not hold, and no test is made"
        return Finding("order", figures, mind, "" if found.together else "cluster the errors by what rows share")
    d = f"d = {number(found.statistic, 2)} (Durbin and Watson), " if isinstance(fit, LinearFit) else ""
    figures += f" ({number(found.expected, 2)} is expected of independent rows), {d}{p_phrase(found.p)}"
    if not found.p < fit.alpha:
        return Finding(
            "order", figures, "no clear evidence that rows following one another are alike, or alternate", ""
        )
    if found.correlation > found.expected:
        meaning = "rows that follow one another are alike in what the model misses: errors that take rows as independent tend to be too small"
        if found.together:
            meaning += ", which the errors of this fit allow for"
        return Finding("order", figures, meaning, _way(found))
    return Finding(
        "order",
        figures,
        "rows that follow one another alternate: what the model misses upward is followed by a miss downward more often than not",
        "look for what swings from one to the next, or for an order that is not that of time",
    )


def following_words(fit: AnyFit, errors: str = "They") -> str:
    """Say, beside the errors of a fit, that they take rows as independent which follow one another and are alike; empty where that is not sure.

    Nothing is said where errors are clustered, or robust to serial correlation, or rows are weighted.
    """
    if fit.exact or fit.cluster is not None or fit.time is not None or fit.weights is not None:
        return ""
    found = following(fit)
    if found is None or not found.is_sure:
        return ""
    figures = f"correlation with the one before{_of_unit(found)} {number(found.correlation, 2)}, {number(found.expected, 2)} expected, {p_phrase(found.p)}"
    shared = shared_times(fit)
    way = (
        _way(found)
        if shared is None
        else f"rows of one `{found.column}` are alike, too, and `{shared.alike.same}` is the same in all of them: {shared.way}"
    )
    return (
        f"{errors} take rows as independent that follow one another in time (`{found.column}`) and are alike in what the model misses ({figures}), so that "
        f"they tend to be too small: {way}"
    )


def _by(found: Following) -> str:
    return f"by `{found.column}`, " if found.column else ""


def _of_unit(found: Following) -> str:
    return f" of its `{found.unit}`" if found.unit else ""


def _way(found: Following) -> str:
    if found.together:
        return ""
    if found.unit:
        return f"cluster the errors by `{found.unit}`"
    by = f", by `{found.column}`" if found.column else ""
    return f"put into the model what moves with time (a trend, the season, the outcome of the row before as a lag), or take errors robust to it (HAC{by})"
