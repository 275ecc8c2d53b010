"""The ends of an outcome, and what a straight line gives beyond them.

A linear model knows no ends: where its fitted values, predictions or intervals pass one, they tell of what no row used shows.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import Any, NamedTuple

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.formatting import plain, short
from markbase.core.rows.facts import NumberFacts
from markbase.core.rows.parts import InParts
from markbase.core.rows.row_functions import some_of

Array = NDArray[np.float64]
_SHARE, _ROWS = 0.01, 3
"""The lowest or highest value is an end if so large a share of the rows, and so many, have it."""
_ROUNDING = 1e-9
"""What passes an end by a smaller share of the range of the outcome is rounding."""


class Ends(NamedTuple):
    """The ends of an outcome, beyond which no row used lies; infinite where it has none."""

    low: float = -math.inf
    """The lower end."""
    high: float = math.inf
    """The upper end."""
    span: float = math.inf
    """The range of the outcome in the rows used."""

    def passed(self, values: Array) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
        """Return which values lie below the lower end, and which above the upper; NaN does not."""
        rounding = _ROUNDING * self.span
        return values < self.low - rounding, values > self.high + rounding

    def shares_passed(self, values: Array, times: Array | None = None) -> tuple[float, float]:
        """Return the shares of the values that lie below the lower end and above the upper, each counted so many times; without those that are NaN."""
        w = (values == values) * (1.0 if times is None else times)
        below, above = (float(w @ side / w.sum()) for side in self.passed(values))
        return below, above


NO_ENDS = Ends()


def ends_of(values: Any, inside: Any) -> Ends:
    """Return the ends of an outcome by its values in the rows used: its lowest and its highest where several rows have them, else below 0 where none is.

    In parts they are those of all rows, which are known without a pass, and beyond which no row used lies either.
    """
    used = values[inside]
    known = values.facts if isinstance(values, InParts) else NumberFacts(low=float(used.min()), high=float(used.max()))
    low, high = known.low, known.high
    if low == high:
        return NO_ENDS
    some = some_of(used)
    least = max(_ROWS, _SHARE * len(some))
    at_low, at_high = (np.count_nonzero(some == end) >= least for end in (low, high))
    return Ends(low if at_low else 0.0 if low >= 0 else -math.inf, high if at_high else math.inf, high - low)


_PREDICTED = "predicted", "low", "high", "one_low", "one_high"


def passing_words(ends: Ends, name: str, level: float, table: pd.DataFrame) -> Iterator[str]:
    """Say where predictions of an outcome, or their intervals, pass its ends: a clause for each end."""
    mean, one = (f"the {short(100 * level, 4)}% CI {of}" for of in ("of the mean", "for one"))
    columns = {c: table[c].to_numpy(dtype=np.float64) for c in table if c in _PREDICTED}
    of = int(np.count_nonzero(~np.isnan(columns.get("predicted", np.zeros(0)))))
    among = f" of {of:,} predictions"
    passed = {c: [int(np.count_nonzero(side)) for side in ends.passed(values)] for c, values in columns.items()}
    sides = ("below", "low", "lower", ends.low), ("above", "high", "higher", ends.high)
    for side, (beyond, column, word, end) in enumerate(sides):
        predicted, of_mean, for_one = (passed.get(c, (0, 0))[side] for c in ("predicted", column, f"one_{column}"))
        here, told = f"{beyond} {plain(end)}", []
        if predicted:
            several = f"{predicted:,}{among} {'is' if predicted == 1 else 'are'} {here}"
            told.append(several if of > 1 else f"the prediction is {here}")
        elif of_mean:
            told.append(f"{mean} leads {here}" + f" in {of_mean:,}{among}" * (of > 1))
        if for_one > (predicted or of_mean):
            where = f"there in {for_one:,}" if told else here + f" in {for_one:,}{among}" * (of > 1)
            told.append(f"{one} leads {where}")
        if told:
            yield f"{', '.join(told)}: {word} than `{name}` is in any row used; a straight line knows no such end"
