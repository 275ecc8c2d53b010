"""Adding up what parts contribute, so that neither their number nor their order shows in the digits."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]


class Total:
    """A sum of arrays of one shape that keeps what rounding takes away (Neumaier's compensation).

    References
    ----------
    Neumaier (1974), Zeitschrift für Angewandte Mathematik und Mechanik 54(1), 39-51, doi:10.1002/zamm.19740540106.
    """

    def __init__(self) -> None:
        self._high: Array | None = None
        self._low: Array | None = None

    def add(self, value: Any) -> None:
        """Add an array, or a number."""
        value = np.asarray(value, dtype=np.float64)
        if self._high is None or self._low is None:
            self._high, self._low = value.copy(), np.zeros_like(value)
            return
        whole = self._high + value
        larger = np.abs(self._high) >= np.abs(value)
        with np.errstate(invalid="ignore"):  # infinities and gaps stay what they are
            lost = np.where(larger, (self._high - whole) + value, (value - whole) + self._high)
        self._low += np.where(np.isfinite(lost), lost, 0.0)
        self._high = whole

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
