"""What is known of a column after one pass over it: counts, extremes and powers about the mean, of parts merged."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass
from functools import reduce
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from markbase.core.rows.workspace import WORKSPACE

MOST_DISTINCT = 1000
"""Distinct values are counted one by one up to so many."""
_LOOK = 2048
"""So many of the first values are looked at before all of them are."""


@dataclass(frozen=True)
class NumberFacts:
    """What is known of numbers, one a row, NaN where missing."""

    rows: int = 0
    """How many rows."""
    valid: int = 0
    """How many of them have a value."""
    low: float = math.nan
    """The lowest value."""
    high: float = math.nan
    """The highest value."""
    origin: float = 0.0
    """What they are counted from, so that few digits are lost far from 0."""
    offset: float = 0.0
    """Their mean from there; not finite where a value is not."""
    second: float = 0.0
    """The sum of squared deviations from the mean."""
    third: float = 0.0
    """The sum of cubed deviations from the mean."""
    infinite: int = 0
    """How many are infinite."""
    whole: bool = True
    """Whether all are whole numbers."""
    first: float = math.nan
    """The first value."""
    last: float = math.nan
    """The last value."""
    rising: bool = True
    """Whether each is larger than the one before, so that none occurs twice."""
    distinct: tuple[tuple[float, ...], tuple[int, ...]] | None = ((), ())
    """Every value with its rows, in order; None where there are more than `MOST_DISTINCT`."""

    @classmethod
    def of(cls, values: NDArray[np.float64], counting: bool = True) -> NumberFacts:
        """Take them of an array, shape (rows,), its distinct values if they are to be counted."""
        rows = len(values)
        with np.errstate(invalid="ignore"):
            low = float(values.min()) if rows else math.nan
        if math.isnan(low):  # a gap is lower than nothing, and tells itself without a pass of its own
            values = values[~np.isnan(values)]
            if not len(values):
                return cls(rows=rows)
            low = float(values.min())
        high = float(values.max())
        infinite = int(np.count_nonzero(np.isinf(values))) if math.isinf(low) or math.isinf(high) else 0
        offset = second = third = math.nan
        if not infinite:
            deviation = np.subtract(values, low, out=WORKSPACE.array("deviations", len(values)))
            offset = float(deviation.mean())
            deviation -= offset
            square = np.multiply(deviation, deviation, out=WORKSPACE.array("squares", len(values)))
            second, third = float(square.sum()), float(np.dot(square, deviation))
        return cls(
            rows=rows,
            valid=len(values),
            low=low,
            high=high,
            origin=low,
            offset=offset,
            second=second,
            third=third,
            infinite=infinite,
            whole=bool(np.array_equal(values[:_LOOK], np.round(values[:_LOOK])) and np.all(values == np.round(values))),
            first=float(values[0]),
            last=float(values[-1]),
            rising=_rises(values[:_LOOK]) and _rises(values),
            distinct=_distinct(values, low, high) if counting else None,
        )

    def merge(self, other: NumberFacts) -> NumberFacts:
        """Join them with those of the rows that follow.

        References
        ----------
        Chan, Golub & LeVeque (1983), The American Statistician 37(3), 242-247, doi:10.1080/00031305.1983.10483115; its
        extension to third powers: Pébay (2008), Sandia Report SAND2008-6212, doi:10.2172/1028931.
        """
        if not self.valid or not other.valid:
            some = self if self.valid else other
            return NumberFacts(**{**some.__dict__, "rows": self.rows + other.rows})
        a, b = self.valid, other.valid
        n = a + b
        gap = (other.origin - self.origin) + (other.offset - self.offset)
        second = self.second + other.second + gap * gap * a * b / n
        third = (
            self.third
            + other.third
            + gap**3 * a * b * (a - b) / (n * n)
            + 3 * gap * (a * other.second - b * self.second) / n
        )
        return NumberFacts(
            rows=self.rows + other.rows,
            valid=n,
            low=min(self.low, other.low),
            high=max(self.high, other.high),
            origin=self.origin,
            offset=self.offset + gap * b / n,
            second=second,
            third=third,
            infinite=self.infinite + other.infinite,
            whole=self.whole and other.whole,
            first=self.first,
            last=other.last,
            rising=self.rising and other.rising and self.last < other.first,
            distinct=_joined(self.distinct, other.distinct),
        )

    @property
    def mean(self) -> float:
        """Their mean; not finite where a value is not."""
        return self.origin + self.offset

    @property
    def sd(self) -> float:
        """Their standard deviation, n − 1; NaN for fewer than two."""
        return math.sqrt(self.second / (self.valid - 1)) if self.valid > 1 else math.nan

    @property
    def skew(self) -> float:
        """The moment coefficient of skewness, m3 / m2^1.5; NaN where they do not vary."""
        if not self.second > 0:
            return math.nan
        return float(self.third / self.valid / (self.second / self.valid) ** 1.5)


def _rises(values: NDArray[np.float64]) -> bool:
    return bool(np.all(values[1:] > values[:-1]))


class Dispersion(NamedTuple):
    """How many numbers there are, where they lie and how far apart: little of what `NumberFacts` has, in a fraction of its time."""

    rows: int
    """How many."""
    mean: float
    """Their mean; NaN of none."""
    squares: float
    """The sum of squared deviations from it."""

    @classmethod
    def of(cls, values: NDArray[np.float64]) -> Dispersion:
        """Take it of an array of numbers without gaps, shape (rows,)."""
        if not len(values):
            return cls(0, math.nan, 0.0)
        deviations = values - (mean := float(np.mean(values)))
        return cls(len(values), mean, float(np.dot(deviations, deviations)))


def merged_dispersion(dispersions: Iterable[Dispersion]) -> Dispersion:
    """Return the dispersion of all numbers from those of parts of them."""
    told = [s for s in dispersions if s.rows]
    rows = sum(s.rows for s in told)
    if not rows:
        return Dispersion(0, math.nan, 0.0)
    first = told[0].mean
    mean = first + math.fsum(s.rows * (s.mean - first) for s in told) / rows
    return Dispersion(rows, mean, math.fsum(s.squares + s.rows * (s.mean - mean) ** 2 for s in told))


def merged_facts(parts: Iterable[NumberFacts]) -> NumberFacts:
    """Join the facts of parts that follow one another."""
    return reduce(NumberFacts.merge, parts, NumberFacts())


def _distinct(values: NDArray[np.float64], low: float, high: float) -> tuple[tuple[float, ...], tuple[int, ...]] | None:
    if len(np.unique(values[:_LOOK])) > MOST_DISTINCT:
        return None
    if math.isfinite(high - low) and high - low < 1 << 16 and np.all(values == np.floor(values)):
        counts = np.bincount((values - low).astype(np.intp))
        here = np.flatnonzero(counts)
        distinct, counts = here + low, counts[here]
    else:
        distinct, counts = np.unique(values, return_counts=True)
    if len(distinct) > MOST_DISTINCT:
        return None
    return tuple(distinct.tolist()), tuple(counts.tolist())


def _joined(
    one: tuple[tuple[float, ...], tuple[int, ...]] | None, other: tuple[tuple[float, ...], tuple[int, ...]] | None
) -> tuple[tuple[float, ...], tuple[int, ...]] | None:
    if one is None or other is None:
        return None
    if one[0] == other[0]:
        return one[0], tuple(a + b for a, b in zip(one[1], other[1], strict=True))
    counts = dict(zip(*one, strict=True))
    if counts.keys().isdisjoint(other[0]):  # as measured values are
        counts.update(zip(*other, strict=True))
    else:
        for value, rows in zip(*other, strict=True):
            counts[value] = counts.get(value, 0) + rows
    if len(counts) > MOST_DISTINCT:
        return None
    order = sorted(counts)
    return tuple(order), tuple(map(counts.__getitem__, order))
