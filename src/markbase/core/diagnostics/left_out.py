"""Whether the rows that a fit left out are like those it used, as far as the outcome and the terms tell."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from markbase.core.inference.crossed_clusters import numbered_cells
from markbase.core.inference.distributions import p_of_t, t_quantile
from markbase.core.rows.facts import Dispersion
from markbase.core.rows.parts import each_part
from markbase.core.rows.row_functions import dispersion_of, learn
from markbase.core.rows.sums import totals_of
from markbase.core.study.remark import THIN_ROWS

if TYPE_CHECKING:
    from markbase.core.design.drawn import DrawnBy
    from markbase.core.design.terms import Variable
    from markbase.core.study.column import Column

Array = NDArray[np.float64]
_FEWEST = 10
"""Of fewer rows that were left out nothing is said."""
_CLEAR = 0.01
"""The p value, corrected for all that is compared, below which rows left out are said to be others by a term."""
_APART, _LEVELS_APART = 0.2, 0.05
"""Shares of rows left out that are so far apart between levels are told whatever the rows, and where more than chance is in it."""
_SDS_APART = 0.25
"""Rows left out whose values lie so many standard deviations from those of the rows used are told."""


class LeftOut(NamedTuple):
    """The outcome in the rows that were left out, as far as they have it, beside that in the rows used."""

    rows: int
    """Rows left out that have the outcome."""
    mean: float
    """Its mean in these; of a logistic fit the share of the event."""
    mean_used: float
    """Its mean in the rows used."""
    difference: float
    """The first less the second."""
    se: float
    """Its standard error: variances of their own (Welch), or clustered as those of the fit."""
    df: float
    """Degrees of freedom of t."""
    low: float
    """Lower end of the interval, at the level of the fit."""
    high: float
    """Upper end."""
    p: float
    """P of as much or more, if the two were alike."""


class _Compared(NamedTuple):
    """The means of a column in two sets of rows."""

    groups: tuple[Dispersion, Dispersion]
    """Both sets."""
    se: float
    """The standard error of the difference of their means; 0 where nothing varies."""
    df: float
    """Degrees of freedom of t."""

    @property
    def difference(self) -> float:
        """The first mean less the second."""
        return self.groups[0].mean - self.groups[1].mean

    @property
    def p(self) -> float:
        """P of as much or more, if the two were alike; 1 where nothing varies."""
        return float(p_of_t(self.difference / self.se, self.df)) if self.se > 0 else 1.0


def left_out_of(fit: Any) -> LeftOut | None:
    """Compare the outcome in rows left out with that in rows used, each row counted once.

    Welch's t (Biometrika 34, 28-35, 1947), or with clusters the sums of ``(y − mean)/n`` within them, t on one less than
    their number. None where fewer than 10 rows left out have the outcome, rows stand for several, or the outcome does not vary.
    """
    out, used, y = fit.sample.others, fit.used, fit.observed_numbers
    if out is None or used is None or fit.rows_used.times is not None:
        return None
    out = _with_clusters(fit, out)
    learn(masks=[out], dispersions=[y[out], y[used]])
    if np.count_nonzero(out) < _FEWEST:
        return None
    found = _compared(fit, y, (out, used))
    if not found.se > 0:
        return None
    half = t_quantile(fit.level, found.df) * found.se
    low, high = found.difference - half, found.difference + half
    there, here = found.groups
    return LeftOut(there.rows, there.mean, here.mean, found.difference, found.se, found.df, low, high, found.p)


def _with_clusters(fit: Any, mask: Any) -> Any:
    """Return some rows that are in a cluster, where there are clusters."""
    for column in fit.drawn_by.clusters:
        mask = mask & column.present if column.valid < fit.sample.rows else mask
    return mask


def _compared(fit: Any, y: Any, masks: tuple[Any, Any]) -> _Compared:
    """Compare the means of a column in two sets of rows, which all have a value and a cluster."""
    one, other = (dispersion_of(y[mask]) for mask in masks)
    groups = (one, other)
    if fit.cluster is None:
        parts = [g.squares / ((g.rows - 1) * g.rows) for g in groups]
        variance, bound = sum(parts), sum(v**2 / (g.rows - 1) for v, g in zip(parts, groups, strict=True))
        df = variance**2 / bound if bound > 0 else math.nan
    else:
        variance, df = _drawn_together(fit.drawn_by, y, masks, groups, fit.errors.members is not None)
    return _Compared(groups, math.sqrt(max(variance, 0.0)), df)


class LevelsApart(NamedTuple):
    """The two levels of a group of which most and fewest rows were left out."""

    variable: Variable
    """The group."""
    most: int
    """The place, among its levels with rows used, of that of which most were."""
    least: int
    """The place of that of which fewest were."""
    shares: tuple[float, float]
    """The shares of their rows that were left out."""


class NumericApart(NamedTuple):
    """A numeric column in the rows that were left out."""

    column: Column
    """The column."""
    rows: int
    """How many of them have a value."""
    difference: float
    """By how much more its mean is in these than in the rows used."""


def levels_apart(fit: Any) -> Iterator[LevelsApart]:
    """Compare, group by group, the shares of rows left out: those 20 points apart, or 5 and clearly so, as the outcome in them is compared.

    Corrected after Bonferroni for all pairs of levels. Levels of fewer than 30 rows do not count.
    """
    if fit.rows_used.times is not None or fit.used is None:
        return
    for variable in (v for v in fit.variables if v.is_categorical):
        before = np.asarray(variable.column.counts)[variable.places].astype(np.float64)
        left = 1 - fit.rows_used.counts_at((variable.name,)) / before
        enough = np.flatnonzero(before >= THIN_ROWS)
        if len(enough) < 2:
            continue
        most, least = int(enough[np.argmax(left[enough])]), int(enough[np.argmin(left[enough])])
        apart, pairs = float(left[most] - left[least]), len(enough) * (len(enough) - 1) / 2
        if apart < _LEVELS_APART:
            continue
        if apart < _APART:
            there = tuple(_with_clusters(fit, variable.codes == k) for k in (most, least))
            found = _compared(fit, (~fit.used).astype(np.float64), there)
            if not found.p * pairs < _CLEAR:
                continue
        yield LevelsApart(variable, most, least, (float(left[most]), float(left[least])))


def numerics_apart(fit: Any) -> list[NumericApart]:
    """Return the numeric columns of a model that are others in the rows left out that have a value, by a quarter of a standard deviation, and clearly so.

    As the outcome in them is compared, corrected after Bonferroni for all of them. None where rows stand for several.
    """
    numeric = [
        v.column for v in fit.variables if not v.is_categorical and v.column.valid - fit.sample.used >= THIN_ROWS
    ]
    if fit.used is None or fit.rows_used.times is not None or not numeric:
        return []
    inside = fit.used
    outside = [_with_clusters(fit, column.present & ~inside) for column in numeric]
    both = [c.values[mask] for c, out in zip(numeric, outside, strict=True) for mask in (out, inside)]
    learn(masks=outside, dispersions=both)
    told = []
    for column, out in zip(numeric, outside, strict=True):
        others, own = dispersion_of(column.values[out]), dispersion_of(column.values[inside])
        apart, sd = others.mean - own.mean, math.sqrt(own.squares / (own.rows - 1))
        if others.rows < THIN_ROWS or not abs(apart) >= _SDS_APART * sd > 0:
            continue
        if _compared(fit, column.values, (out, inside)).p * len(numeric) < _CLEAR:
            told.append(NumericApart(column, others.rows, apart))
    return told


def _drawn_together(
    drawn: DrawnBy, y: Any, masks: Sequence[Any], groups: Sequence[Dispersion], dyads: bool
) -> tuple[float, float]:
    """Return the variance of the difference of two means whose rows go together within clusters, and its degrees of freedom.

    Where clusters are of two kinds it is the sum of both variances less that of the cells in which they cross, and no smaller than either; of dyads
    that by members less that by dyads.
    """
    own = [_clustered(c.values, len(c.levels), y, masks, groups) for c in drawn.clusters]
    if drawn.cluster is None or drawn.crossed is None:
        return own[0]
    codes, cells, _ = numbered_cells(drawn.cluster, drawn.crossed, turned=dyads)
    shared, _ = _clustered(codes, cells, y, masks, groups)
    variances, dfs = zip(*own, strict=True)
    if not dyads:
        return max(sum(variances) - shared, *variances), min(dfs)
    one, other = drawn.clusters
    members, df = _clustered(one.values, len(one.levels), y, masks, groups, other.values)
    return max(members - shared, *variances), df


def _clustered(
    codes: Any, levels: int, y: Any, masks: Sequence[Any], groups: Sequence[Dispersion], also: Any = None
) -> tuple[float, float]:
    """Return the same of clusters of one kind, by the place of each row's, and of a second one to which it counts as well."""

    def summed(y: Array, codes: NDArray[Any], also: Any, *masks: NDArray[np.bool_]) -> tuple[Array, ...]:
        if also is not None:
            y, codes = np.concatenate([y, y]), np.concatenate([codes, also])
            masks = tuple(np.concatenate([mask, mask]) for mask in masks)
        there = [codes[mask].astype(np.intp) for mask in masks]
        sums: list[Array] = [
            np.bincount(at, weights=y[mask] - g.mean, minlength=levels).astype(np.float64)
            for at, mask, g in zip(there, masks, groups, strict=True)
        ]
        return (*sums, np.bincount(np.concatenate(there), minlength=levels).astype(np.float64))

    of_out, of_used, rows = totals_of(each_part(summed, y, codes, also, *masks))
    sums, clusters = of_out / groups[0].rows - of_used / groups[1].rows, int(np.count_nonzero(rows))
    return float(sums @ sums) * clusters / (clusters - 1), clusters - 1.0
