"""How well intervals for one person hold the rows a linear fit was fitted to, by what it gives for them.

Such an interval takes residuals to spread alike everywhere, and to either side alike. The rows show whether they do.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
import scipy.special as sp
from numpy.typing import NDArray

from markbase.core.formatting import as_percent, number, short

Array = NDArray[np.float64]
ROWS_HELD = 1 << 14
"""Rows that are looked at: of more, so many, evenly spread."""
_PARTS, _LEAST = 5, 40
"""Parts of rows of rising fitted values, and the fewest rows of one."""
_SAME = 1e-9
"""Fitted values that differ by a smaller share of their range are the same."""
_CLEAR = 1e-3
_MORE, _LESS = 1.6, 0.4
"""So many times as many rows as should be outside their intervals matter, or so few,"""
_ONE_SIDE = 4.0
"""or so many times as many on one side of them as on the other."""


class Held(NamedTuple):
    """Rows of fitted values that lie side by side, and how many lie outside their intervals."""

    low: float
    """The lowest fitted value of a row."""
    high: float
    """The highest."""
    rows: float
    """How many they are; of sampling weights, as many of equal weight as tell the same (Kish)."""
    below: float
    """The share of them that lies below their intervals."""
    above: float
    """The share above."""

    @property
    def outside(self) -> float:
        """The share outside, on either side."""
        return self.below + self.above


def held_by_fitted(outcome: Array, left: Array, heavy: Array | None, sampled: bool, reach: float) -> tuple[Held, ...]:
    """Count rows outside their intervals, which reach so far to either side, in fifths of rising fitted values.

    `left` are their residuals, `heavy` their weights, sampling weights if `sampled`.
    """
    fitted, w = outcome - left, np.ones(len(left)) if heavy is None else heavy
    here = w > 0
    fitted, left, w = fitted[here], left[here], w[here]
    parts = max(1, min(_PARTS, len(left) // _LEAST))
    rounding = _SAME * np.ptp(fitted) + 4 * np.spacing(np.max(np.abs(fitted)))
    place = np.round((fitted - fitted.min()) / rounding)
    part = np.searchsorted(np.unique(np.quantile(place, np.arange(1, parts) / parts)), place, side="right")
    found = []
    for k in np.unique(part):
        own, e, f = w[part == k], left[part == k], fitted[part == k]
        whole = float(own.sum())
        worth = whole**2 / float(own @ own) if sampled else whole
        below, above = (float(own @ (side > reach)) / whole for side in (-e, e))
        found.append(Held(float(f.min()), float(f.max()), worth, below, above))
    return tuple(found)


def coverage_words(held: Sequence[Held], level: float, predicted: Array, decimals: int) -> str:
    """Say of predictions whether intervals for one are too narrow, too wide, or off to one side where fitted values are like them, as a clause; empty for none.

    A part of the rows is told if clearly more or fewer of it lie outside than should, or if parts clearly differ in that; of several the one that is most off.
    Where no part is told, it is whether nearly all rows outside lie on one side.
    """
    predicted = predicted[~np.isnan(predicted)]
    if not held or not len(predicted):
        return ""
    share, differ = 1 - level, _parts_differ(held)
    between = np.array([(one.high + other.low) / 2 for one, other in itertools.pairwise(held)])
    near = [held[k] for k in np.unique(np.searchsorted(between, predicted))]
    told = [own for own in near if _too_many_or_few(own, share, differ)]
    takes = f"the {short(100 * level, 4)}% CI for one takes residuals to spread alike everywhere and to either side alike, and is"
    if told:
        worst = max(told, key=lambda own: abs(own.outside - share))
        low, high = (number(end, decimals) for end in (worst.low, worst.high))
        where = f"the fitted value {low}" if low == high else f"fitted values from {low} to {high}"
        what = "too narrow" if worst.outside > share else "wider than need be"
        return f"{takes} {what} there: of the rows used with {where}, {_sides(worst)}"
    rows = sum(own.rows for own in held)
    below, above = (sum(own.rows * own[k] for own in held) / rows for k in (3, 4))
    every = Held(held[0].low, held[-1].high, rows, below, above)
    return f"{takes} off to one side: of the rows used {_sides(every)}" if _to_one_side(every, share) else ""


def _sides(held: Held) -> str:
    if not held.outside:
        return "none lies outside its own"
    below, above = (as_percent(share) if share else "none" for share in (held.below, held.above))
    return f"{below} lie below theirs and {above} above"


def _parts_differ(held: Sequence[Held]) -> bool:
    """Whether parts clearly differ in how many of their rows lie outside (chi-squared)."""
    rows, outside = np.array([own.rows for own in held]), np.array([own.outside for own in held])
    mean = float(rows @ outside / rows.sum())
    if not 0 < mean < 1:
        return False
    return float(sp.chdtrc(len(held) - 1, rows @ (outside - mean) ** 2 / (mean * (1 - mean)))) < _CLEAR


def _too_many_or_few(held: Held, share: float, differ: bool) -> bool:
    more, fewer = held.outside > _MORE * share, held.outside < _LESS * share
    if not (more or fewer):
        return False
    return differ or _tail(held.outside * held.rows, held.rows, share, more) < _CLEAR / 2


def _to_one_side(held: Held, share: float) -> bool:
    large, small = max(held.below, held.above), min(held.below, held.above)
    if not (large > share / 2 and large > _ONE_SIDE * small):
        return False
    return _tail(large * held.rows, held.outside * held.rows, 0.5, upper=True) < _CLEAR / 2


def _tail(count: float, of: float, p: float, upper: bool) -> float:
    """Return the binomial probability of so many or more, or of so many or fewer; counts need not be whole."""
    if upper:
        return float(sp.betainc(count, of - count + 1, p)) if count > 0 else 1.0
    return float(sp.betainc(max(of - count, 1e-300), count + 1, 1 - p))
