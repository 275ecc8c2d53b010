"""How far the items of a scale go together: variances, covariances, Cronbach's alpha, and items that go the other way."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import listed, quoted
from markbase.core.formatting import without_zero
from markbase.core.rows.parts import InParts, each_part, facts_of
from markbase.core.rows.row_functions import all_of
from markbase.core.rows.sums import total_of
from markbase.core.study.column import Column
from markbase.core.study.remark import FEW_VALUES

Array = NDArray[np.float64]
_ROWS = 1 << 14
"""Rows whose products are taken at a time."""
_AGAINST = 0.1
"""A negative correlation of less is not spoken of,"""
_CLEAR = 2.0
"""nor one of fewer standard errors."""
_ROUNDING = 1e-14
"""A standard deviation that is a smaller share of the mean is 0 but for rounding."""


@dataclass(frozen=True, eq=False)
class Consistency:
    """Items in the rows that have all of them."""

    names: tuple[str, ...]
    """The items."""
    rows: int
    """Rows with a value in every item."""
    means: Array
    """Shape (items,)."""
    covariance: Array
    """Shape (items, items), with n − 1."""

    @property
    def fixed(self) -> list[str]:
        """Items that do not vary."""
        least = (_ROUNDING * np.abs(self.means)) ** 2
        return [n for n, v, bound in zip(self.names, np.diag(self.covariance), least, strict=True) if not v > bound]

    @cached_property
    def correlations(self) -> Array:
        """Shape (items, items): Pearson's r of every two."""
        sd = np.sqrt(np.diag(self.covariance))
        return np.asarray(np.clip(self.covariance / np.outer(sd, sd), -1, 1))

    @property
    def alpha(self) -> float:
        """k/(k − 1) times one less the share of the items' own variances in the variance of their sum; NaN of a sum that does not vary.

        Cronbach (1951), Psychometrika 16, 297-334.
        """
        return float(_alpha(len(self.names), np.trace(self.covariance), self.covariance.sum()))

    @property
    def without_each(self) -> Array:
        """Shape (items,): alpha of the other items; NaN of two items."""
        own, shared = np.diag(self.covariance), self.covariance.sum(axis=1)
        left = self.covariance.sum() - 2 * shared + own
        return _alpha(len(self.names) - 1, np.trace(self.covariance) - own, left)

    @property
    def with_rest(self) -> Array:
        """Shape (items,): the correlation of each item with the sum of the others."""
        own, shared = np.diag(self.covariance), self.covariance.sum(axis=1)
        rest = self.covariance.sum() - 2 * shared + own
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.where(rest > 0, np.clip((shared - own) / np.sqrt(own * rest), -1, 1), np.nan)

    @cached_property
    def against(self) -> dict[str, float]:
        """Items that clearly go against the others, each with its correlation with the sum of these.

        Candidates are the smaller side of the first principal component of the correlations (of two sides of one size that
        without the first item); each is then held against the larger side.
        """
        first = np.linalg.eigh(self.correlations)[1][:, -1]
        side = first < 0
        if 2 * np.count_nonzero(side) > len(side) or (2 * np.count_nonzero(side) == len(side) and side[0]):
            side = ~side
        found = {}
        spread = float(self.covariance[np.ix_(~side, ~side)].sum())
        for k in np.flatnonzero(side):
            r = (
                float(self.covariance[k, ~side].sum() / math.sqrt(self.covariance[k, k] * spread))
                if spread > 0
                else 0.0
            )
            if r <= -_AGAINST and r * r * (self.rows - 2) > _CLEAR**2 * (1 - r * r):
                found[self.names[k]] = r
        return found

    @property
    def against_words(self) -> str:
        """Say which items go against the others, and what would do; empty for none."""
        if not self.against:
            return ""
        names, r = listed(quoted(self.against)), listed([without_zero(v, 2) for v in self.against.values()])
        if len(self.names) == 2:
            other = next(n for n in self.names if n not in self.against)
            return f"{names} goes against `{other}` (r = {r}): if one of them is worded the other way round, turn it round first"
        one = len(self.against) == 1
        return (
            f"{names} {'goes' if one else 'go'} against the other items (r = {r} with their sum): if {'it is' if one else 'they are'} "
            f"worded the other way round, turn {'it' if one else 'them'} round first"
        )

    @property
    def alpha_words(self) -> str:
        """Say how large alpha is, and in which rows; empty where there is none."""
        there = f"in the {self.rows:,} rows with every item"
        return "" if math.isnan(self.alpha) else f"Cronbach's alpha {without_zero(self.alpha, 2)} {there}"


def consistency_of(columns: Sequence[Column]) -> Consistency | None:
    """Take the means and covariances of items on the rows that have all of them, in one pass; None of fewer than three rows.

    Chunks are merged about their own means (Chan, Golub & LeVeque 1983, The American Statistician 37, 242-247).
    """
    present = all_of([c.present for c in columns])
    chunks = [chunk for part in each_part(_chunks, present, *[c.values for c in columns]) for chunk in part]
    rows = sum(n for n, _, _ in chunks)
    if rows < 3:
        return None
    near = chunks[0][1]
    mean = near + total_of(n * (m - near) for n, m, _ in chunks) / rows
    cross = total_of(c + n * np.outer(m - mean, m - mean) for n, m, c in chunks)
    return Consistency(tuple(c.name for c in columns), rows, mean, cross / (rows - 1))


def answers_alike(columns: Sequence[Column]) -> bool:
    """Whether columns look like the answers to items of one scale: few whole numbers, from the same lowest to the same highest."""
    if len({c.span for c in columns}) > 1:
        return False
    every = [c.values.facts if isinstance(c.values, InParts) else facts_of(c.values) for c in columns]
    return all(f.whole and f.distinct is not None and len(f.distinct[0]) <= FEW_VALUES for f in every)


def _chunks(present: NDArray[np.bool_], *values: Array) -> list[tuple[int, Array, Array]]:
    """Return rows, means and products about these of every chunk of a part."""
    chunks = []
    for start in range(0, len(present), _ROWS):
        at = slice(start, start + _ROWS)
        inside = present[at]
        if inside.any():
            x = np.stack([v[at][inside] for v in values])
            mean = x.mean(axis=1)
            x -= mean[:, None]
            chunks.append((x.shape[1], mean, np.dot(x, x.T)))
    return chunks


def _alpha(items: int, own: Array | float, whole: Array | float) -> Array:
    with np.errstate(divide="ignore", invalid="ignore"):
        factor = items / (items - 1) if items > 1 else math.nan
        return np.where(np.asarray(whole) > 0, factor * (1 - np.asarray(own) / whole), np.nan)
