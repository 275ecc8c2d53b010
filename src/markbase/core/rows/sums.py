"""Adding up what parts contribute, so that neither their number nor their order shows in the digits."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]

_AT_ONCE = 1 << 13
"""Numbers added at a time, which then stay in the cache."""


class Total:
    """A sum of arrays of one shape that keeps what rounding takes away.

    What each addition loses is found without a look at which number is the larger, and summed beside.

    References
    ----------
    Ogita, Rump & Oishi (2005), SIAM Journal on Scientific Computing 26(6), 1955-1988, doi:10.1137/030601818.
    """

    def __init__(self) -> None:
        self._high: Array | None = None
        self._low: Array | None = None

    def add(self, value: Any) -> None:
        """Add an array, or a number."""
        if self._high is None or self._low is None:
            self._high = np.array(value, dtype=np.float64, order="C")
            self._low = np.zeros(self._high.shape)
            return
        if np.asarray(value).dtype.kind == "i":  # of counts nothing is rounded away
            self._high += value
            return
        high, low = self._high.reshape(-1), self._low.reshape(-1)
        more = np.asarray(value, dtype=np.float64).reshape(-1)
        for start in range(0, len(high), _AT_ONCE):
            at = slice(start, start + _AT_ONCE)
            _add_in_place(high[at], low[at], more[at])

    def add_longer(self, value: Array) -> None:
        """Add a list of sums that may be longer, or shorter, than those before."""
        if self._high is not None and self._low is not None and len(value) != len(self._high):
            more = max(len(value) - len(self._high), 0)
            self._high, self._low = np.pad(self._high, (0, more)), np.pad(self._low, (0, more))
            value = np.pad(value, (0, len(self._high) - len(value)))
        self.add(value)

    @property
    def value(self) -> Array:
        """The sum."""
        if self._high is None or self._low is None:
            return np.zeros(())
        found: Array = self._high + self._low
        return found


def _add_in_place(high: Array, low: Array, more: Array) -> None:
    """Add numbers to sums, and what that loses to what was lost."""
    whole = high + more
    with np.errstate(invalid="ignore"):  # infinities and gaps stay what they are
        share = whole - high
        lost = (high - (whole - share)) + (more - share)
    if not np.isfinite(lost).all():
        lost[~np.isfinite(lost)] = 0.0
    low += lost
    high[:] = whole


def total_of(values: Iterable[Any]) -> Array:
    """Return the sum of arrays of one shape, compensated; of a single one, that one as it is."""
    whole = Total()
    for value in values:
        whole.add(value)
    return whole.value


def totals_of(records: Iterable[tuple[Any, ...]]) -> tuple[Array, ...]:
    """Return the sums, entry by entry, of records of arrays."""
    wholes: list[Total] = []
    for record in records:
        wholes = wholes or [Total() for _ in record]
        for whole, value in zip(wholes, record, strict=True):
            whole.add(value)
    return tuple(whole.value for whole in wholes)
