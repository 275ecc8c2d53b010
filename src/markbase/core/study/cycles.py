"""Numbers that count round, such as hours of the day: behind the last comes the first again, and to a slope these two are farthest apart."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from markbase.core.formatting import plain
from markbase.core.study.classifications import as_words
from markbase.core.study.column import Column
from markbase.core.study.expressions import Part
from markbase.core.study.remark import Remark

Array = NDArray[np.float64]


class Cycle(NamedTuple):
    """What numbers count that begin anew."""

    what: str
    """What they are, in the plural."""
    length: float
    """After so much it begins anew."""
    called: re.Pattern[str]
    """What columns of it are called."""
    whole: bool = True
    """Whether they are whole numbers."""


_BY_NAME = (
    Cycle(
        "hours of the day",
        24,
        as_words(
            "hour|stunde|uhrzeit|time[ _-]?of[ _-]?(the[ _-]?)?day|(bed|sleep|wake|waking|start|end|arrival|departure)[ _-]?(time|hour)"
        ),
        whole=False,
    ),
    Cycle("days of the week", 7, as_words("week[ _-]?day|day[ _-]?of[ _-]?(the[ _-]?)?week|dow|wochentag")),
    Cycle("months of the year", 12, as_words("month|monat|mois|mes|mese")),
    Cycle("quarters of the year", 4, as_words("quarter|quartal|trimestre")),
    Cycle("degrees of a direction", 360, as_words("direction|bearing|azimuth|richtung"), whole=False),
)
_CLOCK = {"in hours": 24.0, "in minutes": 1440.0, "in seconds": 86400.0}
"""How a column was made of times of a clock, and what of it a day has."""
_NEAR = 1 / 8
"""Values that are no whole numbers lie so near to either end, as a share of the whole round."""
_FEW = 24
"""Of so many whole numbers each may stand by itself."""
_QUIET = 1 / 8
"""Where no value lies for such a share of it, it may be counted from there."""


def cycle_of(column: Column, values_of: Callable[[Column], Array]) -> Cycle | None:
    """Return what a numeric column counts round, by its name, or what it was made of, and its values; None for nothing of the kind.

    Only of values that come near either end: those of half a day are as far apart as they seem. `values_of` returns all values of
    a column, or each once.
    """
    if column.is_categorical or not column.valid:
        return None
    how = column.made.how if column.made is not None else ""
    if how in _CLOCK:
        known: Cycle | None = Cycle("times of the day", _CLOCK[how], re.compile(""), whole=False)
    else:
        label = column.label.removeprefix("the ")  # which begins with it: an income per month is none
        known = next((own for own in _BY_NAME if own.called.search(column.name) or own.called.match(label)), None)
    if known is None:
        return None
    (low, high), near = column.span, _NEAR * known.length
    if low < 0 or not high <= known.length:
        return None
    if high - low != known.length - 1 if known.whole else (low >= near or high < known.length - near):
        return None
    values = values_of(column)
    whole = np.array_equal(values, np.round(values))
    if known.whole:
        return known if whole else None
    return known._replace(whole=whole and known.length <= _FEW)


def told_of(column: Column) -> str:
    """Say how far the two ends of a cycle stand apart."""
    low, high = column.span
    return f"{plain(high, 4)} and {plain(low, 4)} are neighbours and stand {plain(high - low, 4)} apart"


def way_round(cycle: Cycle) -> str:
    """Say what would have neighbours stand together."""
    if cycle.whole:
        return "declared categorical, each stands by itself"
    return "count them from where no value is, or cut them into groups"


def remark_on_cycle(column: Column, values: Array) -> Remark | None:
    """Say that a numeric column counts round, with the step that would mend it; `values` are all of it, or each once."""
    cycle = cycle_of(column, lambda _: values)
    if cycle is None:
        return None
    begins = _quiet_place(np.unique(values), cycle.length)
    if begins is not None:
        since = f"{Part('column', text=column.name).shown} - {begins:g}"
        counted = {
            "do": "calculate",
            "name": f"{column.name}_from_{begins:g}",
            "expression": f"{since} - {cycle.length:g} * floor(({since}) / {cycle.length:g})",
        }
        text = f"{cycle.what}? {told_of(column)}; counted from {begins:g}, where no value is near, they stand together"
        return Remark(text, (counted,))
    mend = ({"do": "as_categorical", "column": column.name},) if cycle.whole else ()
    return Remark(f"{cycle.what}? {told_of(column)}; {way_round(cycle)}", mend)


def _quiet_place(rising: Array, length: float) -> float | None:
    """Return the middle of the widest stretch without a value, as a whole number inside it; None where none is wide."""
    gaps = np.diff(rising)
    if not len(gaps) or gaps.max() < max(_QUIET * length, 2.0):
        return None
    k = int(np.argmax(gaps))
    return float(np.ceil((rising[k] + rising[k + 1]) / 2))
