"""Sorting rows by a predicted probability, held against guessing the commoner level.

References
----------
DeLong, DeLong & Clarke-Pearson (1988), Biometrics 44(3), 837-845, doi:10.2307/2531595.
Korn & Graubard (1998), Survey Methodology 24(2), 193-201 (how many independent rows tell as much of a share).
Wilson (1927), J. Am. Stat. Assoc. 22(158), 209-212, doi:10.1080/01621459.1927.10502953.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import pandas as pd
import scipy.special as sp
from numpy.typing import NDArray

from markbase.core.diagnostics.drawn_rows import DrawnRows
from markbase.core.display import ShownTables
from markbase.core.errors import MarkbaseError
from markbase.core.inference.distributions import t_quantile
from markbase.core.rows.parts import each_part
from markbase.core.rows.sums import Total
from markbase.core.tables import own_table

Array = NDArray[np.float64]
_REACH, _CELLS = 40.0, 1 << 17
"""Log odds of rows in parts are told apart up to so far, in so many cells."""
_WIDTH = 2 * _REACH / _CELLS
_SAME = 1e-9
"""Of log odds: probabilities no further apart than this are one."""
MOST_PARTS = 1_000
"""So many parts of rising probability a calibration takes."""


class Cells(NamedTuple):
    """Rows of nearly equal log odds together, those with the event and those without apart."""

    happened: Array
    """Shape (k,): 1 for the event, 0 otherwise."""
    p: Array
    """Shape (k,): their mean probability."""
    weights: Array
    """Shape (k,): how much they count together."""
    squares: Array
    """Shape (k,): the sum of the squares of how much each counts."""
    times: Array
    """Shape (k,): how many rows they are."""
    within: float
    """By how much an area under the curve may be off at most, as rows of one cell count as ties."""
    one_each: bool
    """Whether all rows of a cell have the same probability, in every cell."""
    counted: Callable[[Array], Array]
    """Returns the mean probability of the cells of rows from their own."""


@dataclass(frozen=True, eq=False, repr=False)
class Classification(ShownTables):
    """Rows sorted by whether the predicted probability reaches a cut."""

    outcome: str
    """The outcome."""
    event: str
    """The event."""
    otherwise: str
    """The other level."""
    cut: float
    """The probability from which the event is predicted."""
    level: float
    """Confidence level."""
    table: pd.DataFrame
    """Counts (or sums of weights): what was observed in rows, what was predicted in columns."""
    area: float
    """Area under the curve: how often a row with the event has a higher probability than one without."""
    area_low: float
    """Its interval, low end (DeLong, even in log odds; of rows drawn in clusters, Obuchowski)."""
    area_high: float
    """High end."""
    _ordered: _Ordered
    """The rows by their probabilities."""
    held_out: Classification | None = None
    """The same on rows the model had not seen, if it was asked for."""
    folds: int = 0
    """In how many parts the rows were held out in turn; 0 for the rows the model was fitted to."""
    left_out: int = 0
    """Rows that could not be predicted in their turn, as their level occurred in no other part."""
    cluster: str = ""
    """The column whose whole levels were held out, where errors are clustered; empty where single rows were."""
    allows_for: str = ""
    """What the interval of the area allows for: clusters, or strata, of the errors of the fit; empty where rows are independent."""
    area_within: float = 0.0
    """By how much the area may be off at most: 0 where all rows are in memory; in parts, those of nearly equal log odds count as ties."""

    @own_table
    def points(self) -> pd.DataFrame:
        """The curve, from the highest cut on: `cut`, `sensitivity`, `specificity`."""
        return self._ordered.curve()

    @property
    def correct(self) -> float:
        """Share of rows classified correctly."""
        return float(np.trace(self.table)) / float(self.table.to_numpy().sum())

    @property
    def guess(self) -> float:
        """Share classified correctly by always guessing the commoner level."""
        return float(self.table.sum(axis=1).max() / self.table.to_numpy().sum())

    @property
    def commoner(self) -> str:
        """The commoner level."""
        return str(self.table.sum(axis=1).idxmax())

    @property
    def sensitivity(self) -> float:
        """Share of events predicted as such."""
        return float(self.table.loc[self.event, self.event] / self.table.loc[self.event].sum())  # type: ignore[operator, arg-type]

    @property
    def specificity(self) -> float:
        """Share of non-events predicted as such."""
        return float(self.table.loc[self.otherwise, self.otherwise] / self.table.loc[self.otherwise].sum())  # type: ignore[operator, arg-type]


def check_cut(cut: float) -> None:
    """Refuse a cut that is no probability."""
    if not isinstance(cut, (int, float)) or not 0 < cut < 1:
        raise MarkbaseError(f"The cut is {cut!r}; it is a probability between 0 and 1, for instance 0.5.")


def classify(
    happened: Array,
    p: Array,
    weights: Array | None,
    names: tuple[str, str, str],
    cut: float,
    level: float,
    times: Array | None = None,
    squares: Array | None = None,
    drawn: DrawnRows | None = None,
    **more: object,
) -> Classification:
    """Sort rows by their predicted probability `p`: counts and shares, and the area by pairs, each counted by its weights.

    `happened` is 1 for the event, 0 otherwise; both have shape (n,). `names` are the outcome, its event and its other
    level; `times` says for how many rows each stands, and `squares` what the squares of their weights sum to; `drawn` how the rows
    were drawn, None where they are independent; `more` are other fields of the result.
    """
    check_cut(cut)
    outcome, event, otherwise = names
    sides = 2 * (happened == 1) + (p >= cut)
    counts = np.bincount(sides, weights=weights, minlength=4).reshape(2, 2).astype(np.float64)
    labels = [otherwise, event]
    table = pd.DataFrame(counts, index=labels, columns=labels)
    ordered = _Ordered.of(happened, p, weights, times, squares)
    area, se = ordered.area()
    if drawn is not None and drawn.words and math.isfinite(area):
        se = drawn.error_of_area(ordered.values, ordered.components() / ordered.weights.sum(axis=1)[:, None])
    low, high = _even_in_log_odds(area, se, t_quantile(level, math.inf if drawn is None else drawn.df))
    return Classification(
        outcome,
        event,
        otherwise,
        cut,
        level,
        table,
        area,
        low,
        high,
        ordered,
        allows_for="" if drawn is None else drawn.words,
        **more,  # type: ignore[arg-type]
    )


@dataclass(frozen=True, eq=False)
class _Ordered:
    """Rows with and without the event at each probability that occurs, the lowest first."""

    values: Array
    """Shape (values,): the probabilities."""
    counts: Array
    """Shape (2, values): rows with the event, and without."""
    weights: Array
    """The same, each row counted by its weight."""
    squares: Array
    """The same, by the square of its weight."""

    @classmethod
    def of(
        cls,
        happened: Array,
        p: Array,
        weights: Array | None,
        times: Array | None = None,
        squares: Array | None = None,
    ) -> _Ordered:
        """Sort rows that stand for themselves, or for several."""
        if weights is None and times is None:
            rising, events = _sorted_with_events(happened, p)
            order: slice | NDArray[np.intp] = slice(None)
        else:
            order = np.argsort(p)
            rising, events = p[order], (happened == 1)[order]
        first = np.flatnonzero(np.diff(rising, prepend=np.nan) != 0)

        def by_value(each: Array | None) -> Array:
            sides = np.stack([events, ~events])
            own = sides.astype(np.float64) if each is None else sides * each[order]
            return own if len(first) == len(p) else np.add.reduceat(own, first, axis=1)

        counts = by_value(times)
        if weights is None:
            return cls(rising[first], counts, counts, counts)
        return cls(rising[first], counts, by_value(weights), by_value(weights**2 if squares is None else squares))

    def area(self) -> tuple[float, float]:
        """Return the area under the curve and its standard error, of independent rows."""
        sizes, rows = self.weights.sum(axis=1), self.counts.sum(axis=1)
        if not sizes.all():
            return math.nan, math.nan
        shares = self._shares()
        area = float(self.weights[0] @ shares[0] / sizes[0])
        if min(rows) < 2:
            return area, math.nan
        shares -= area  # DeLong's components
        around = np.einsum("ij,ij,ij->i", self.squares, shares, shares) / sizes**2
        return area, math.sqrt(float(around @ (rows / (rows - 1))))

    def _shares(self) -> Array:
        """Return the share of rows without the event below each value, and of those with it above, shape (2, values)."""
        below: Array = (np.cumsum(self.weights, axis=1) - self.weights / 2) / self.weights.sum(axis=1)[:, None]
        below[0] = 1 - below[0]
        return below[::-1]

    def components(self) -> Array:
        """Return DeLong's components, from the area, shape (2, values): of rows with the event, and without."""
        shares = self._shares()
        components: Array = shares - self.weights[0] @ shares[0] / self.weights[0].sum()
        return components

    def curve(self) -> pd.DataFrame:
        """Return `cut`, `sensitivity` and `specificity` at every cut that makes a difference, the highest first."""
        events, others = np.cumsum(self.weights[:, ::-1], axis=1)
        return pd.DataFrame(
            {
                "cut": np.concatenate([[1.0], self.values[::-1]]),
                "sensitivity": np.concatenate([[0.0], events / events[-1]]),
                "specificity": 1 - np.concatenate([[0.0], others / others[-1]]),
            }
        )


def _sorted_with_events(happened: Array, p: Array) -> tuple[Array, NDArray[np.bool_]]:
    """Return probabilities, the lowest first, and whether the event happened at each.

    The bits of a number from 0 to 1 stand in its order and leave the highest two free, so that they make room for the event: whole
    numbers are sorted several times as fast as places.
    """
    own = np.ascontiguousarray(p, dtype=np.float64)
    bits = np.sort((own.view(np.uint64) << np.uint64(1)) | (np.asarray(happened) == 1))
    return (bits >> np.uint64(1)).view(np.float64), (bits & np.uint64(1)).astype(bool)


def area_under_curve(happened: Array, p: Array, weights: Array | None = None) -> tuple[float, float]:
    """Return the area under the curve and its standard error, by DeLong's components; NaN if one side is missing.

    The share of pairs of one event and one non-event in which the event has the higher probability, ties counting half, each pair
    by the product of its `weights`.
    """
    return _Ordered.of(happened, p, weights).area()


def area_of_cells(cells: Cells) -> float:
    """Return the area under the curve of rows in cells."""
    return _Ordered.of(cells.happened, cells.p, cells.weights, cells.times, cells.squares).area()[0]


def cells_of(happened: Array, p: Array, heavy: Array | None, often: Array | None, cut: float) -> Cells:
    """Put rows that come in parts into cells of nearly equal log odds, each as two rows: with the event and without.

    No cell holds the probability `cut` within it.
    """

    def cell_of(p: Array) -> NDArray[np.intp]:
        with np.errstate(divide="ignore"):
            odds = np.clip(np.log(p) - np.log1p(-p), -_REACH, _REACH)
        cell: NDArray[np.intp] = 2 * np.minimum((odds + _REACH) / _WIDTH, _CELLS - 1).astype(np.intp) + (p >= cut)
        return cell

    def summed(happened: Array, p: Array, heavy: Array | None, often: Array | None) -> tuple[Array, Array]:
        cell = cell_of(p)
        ends = np.full((2, 2 * _CELLS), -np.inf)
        for row, values in zip(ends, (-p, p), strict=True):
            np.maximum.at(row, cell, values)
        cell = 2 * cell + (happened == 1)
        times = np.ones(len(p)) if often is None else often
        weights = times if heavy is None else heavy
        squares = times if heavy is None else heavy**2
        told = (times, weights, squares, times * p)
        return np.array([np.bincount(cell, weights=w, minlength=4 * _CELLS) for w in told]), ends

    whole, ends = Total(), np.full((2, 2 * _CELLS), -np.inf)
    for some, own in each_part(summed, happened, p, heavy, often):
        whole.add(some)
        ends = np.maximum(ends, own)
    times, weights, squares, sums = whole.value
    here = np.flatnonzero(times)
    cells = here // 2
    mean = np.bincount(cells, weights=sums[here]) / np.maximum(np.bincount(cells, weights=times[here]), 1e-300)
    event, own = here % 2 == 1, weights[here]
    tied = np.bincount(cells, weights=own * event) * np.bincount(cells, weights=own * ~event)
    spread = (ends[0] + ends[1])[: len(mean)]
    several = spread > _SAME * mean * (1 - mean)
    tied[~several] = 0.0  # of one probability, to within rounding: true ties
    pairs = float((own * event).sum() * (own * ~event).sum())
    within = float(tied.sum()) / 2 / pairs if pairs else 0.0
    told = event.astype(np.float64), mean[cells], own, squares[here], times[here]
    return Cells(*told, within, not several.any(), lambda p: mean[cell_of(p)])


def _even_in_log_odds(share: float, se: float, half: float) -> tuple[float, float]:
    if not 0 < share < 1 or not se > 0:
        return (share, share) if se == 0 else (math.nan, math.nan)
    reach = half * se / (share * (1 - share))
    middle = math.log(share / (1 - share))
    return float(sp.expit(middle - reach)), float(sp.expit(middle + reach))


def check_parts(parts: object) -> None:
    """Refuse a number of parts that no calibration has."""
    if not isinstance(parts, int) or not 2 <= parts <= MOST_PARTS:
        raise MarkbaseError(f"Calibration takes two parts or more, at most {MOST_PARTS:,}, not {parts!r}.")


def calibrate(
    happened: Array,
    p: Array,
    weights: Array | None,
    parts: int,
    level: float,
    times: Array | None = None,
    squares: Array | None = None,
    drawn: DrawnRows | None = None,
) -> pd.DataFrame:
    """Compare predicted probabilities with what was observed, in parts of rising probability and about equal size.

    Equal probabilities stay together. Columns: `part`, `n`, `lowest`, `highest`, `predicted` (mean), `observed` (share)
    with `low` and `high` (Wilson, of as many independent rows as would tell as much of the share, at most those there are). The
    arguments are those of `classify`.
    """
    check_parts(parts)
    heavy = np.ones(len(p)) if weights is None else weights
    shares = np.linspace(0, 1, parts + 1)[1:-1]
    if times is None:
        edges = np.unique(np.quantile(p, shares))
    else:
        order = np.argsort(p, kind="stable")
        edges = np.unique(p[order][np.searchsorted(np.cumsum(times[order]), shares * times.sum())])
    where, size = np.searchsorted(edges, p, side="left"), len(edges) + 1
    sums = np.bincount(where, heavy, size)
    some = np.flatnonzero(sums)
    observed, predicted = (
        np.bincount(where, heavy * each, size)[some] / sums[some] for each in (np.asarray(happened == 1), p)
    )
    n = np.round(np.bincount(where, times, size)).astype(np.int64)[some]
    told = np.array(n, dtype=np.float64)
    if drawn is not None:
        told = sums[some] ** 2 / np.bincount(where, heavy**2 if squares is None else squares, size)[some]
        shares = np.zeros(size)
        shares[some] = observed
        variance = drawn.variances_of_shares(edges, shares, np.where(sums > 0, sums, 1.0))[some]
        vary = observed * (1 - observed)
        less = (variance > 0) & (vary < told * variance)  # of a share of 0 or 1 no row differs from another
        told[less] = (vary / np.where(less, variance, 1.0))[less]
    z2 = t_quantile(level, math.inf if drawn is None else drawn.df) ** 2
    middle = (observed + z2 / (2 * told)) / (1 + z2 / told)
    half = np.sqrt(z2 * (observed * (1 - observed) / told + z2 / (4 * told**2))) / (1 + z2 / told)
    return pd.DataFrame(
        {
            "part": np.arange(len(some)) + 1,
            "n": n,
            "lowest": [float(p[where == k].min()) for k in some],
            "highest": [float(p[where == k].max()) for k in some],
            "predicted": predicted,
            "observed": observed,
            "low": middle - half,
            "high": middle + half,
        }
    )
