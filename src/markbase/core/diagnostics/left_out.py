"""Whether the rows that a fit left out are like those it used, as far as the outcome tells."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from markbase.core.inference.crossed_clusters import numbered_cells
from markbase.core.inference.distributions import p_of_t, t_quantile
from markbase.core.rows.facts import Dispersion
from markbase.core.rows.parts import each_part
from markbase.core.rows.row_functions import dispersion_of, learn
from markbase.core.rows.sums import totals_of

if TYPE_CHECKING:
    from markbase.core.design.drawn import DrawnBy

Array = NDArray[np.float64]
_FEWEST = 10
"""Of fewer rows that were left out nothing is said."""


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


def left_out_of(fit: Any) -> LeftOut | None:
    """Compare the outcome in rows left out with that in rows used, each row counted once.

    Welch's t (Biometrika 34, 28-35, 1947), or with clusters the sums of ``(y − mean)/n`` within them, t on one less than
    their number. None where fewer than 10 rows left out have the outcome, rows stand for several, or the outcome does not vary.
    """
    out, used, y = fit.sample.others, fit.used, fit.observed_numbers
    if out is None or used is None or fit.rows_used.times is not None:
        return None
    for column in fit.drawn_by.clusters:
        out = out & column.present if column.valid < fit.sample.rows else out
    learn(masks=[out], dispersions=[y[out], y[used]])
    if np.count_nonzero(out) < _FEWEST:
        return None
    groups = [dispersion_of(y[mask]) for mask in (out, used)]
    difference = groups[0].mean - groups[1].mean
    if fit.cluster is None:
        parts = [g.squares / ((g.rows - 1) * g.rows) for g in groups]
        variance, bound = sum(parts), sum(v**2 / (g.rows - 1) for v, g in zip(parts, groups, strict=True))
        df = variance**2 / bound if bound > 0 else math.nan
    else:
        variance, df = _drawn_together(fit.drawn_by, y, (out, used), groups, fit.errors.members is not None)
    if not variance > 0:
        return None
    se = math.sqrt(variance)
    half = t_quantile(fit.level, df) * se
    p = float(p_of_t(difference / se, df))
    low, high = difference - half, difference + half
    return LeftOut(groups[0].rows, groups[0].mean, groups[1].mean, difference, se, df, low, high, p)


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
