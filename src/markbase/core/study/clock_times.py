"""Numbers made of times as a clock shows them: of the day, or how long something took."""

from __future__ import annotations

import re
from collections.abc import Sequence

import numpy as np

from markbase.core.errors import ColumnError, MarkbaseError, count_noun, near
from markbase.core.formatting import plain
from markbase.core.rows.row_functions import learn, look_up
from markbase.core.study.column import Column, Made, Unit
from markbase.core.study.dates import read_as_dates
from markbase.core.study.verification import Recode, levels_by_number, with_missing

TAKEN = {"hours": 3600.0, "minutes": 60.0, "seconds": 1.0}
"""What a time is counted in, and its seconds."""
_CLOCK = re.compile(r"(\d{1,3}):([0-5]\d)(?::([0-5]\d(?:[.,]\d+)?))?(?:\s?([AaPp])\.?[Mm]\.?)?")
_WITH_A_DAY = re.compile(r"(.+?)[T ](\d{1,2}:\d{2}.*?)(?:Z|[+-]\d{2}:?\d{2})?")
_LATE, _EARLY = 21 * 3600.0, 3 * 3600.0


def read_as_clock(texts: Sequence[str]) -> bool:
    """Return whether all texts are times as a clock shows them."""
    return bool(len(texts)) and all(map(_CLOCK.fullmatch, texts))


def from_clock(column: Column, take: str, name: str, first: str | None = None) -> Recode:
    """Make a number of a group of times; `take` is one of `TAKEN`. Of a date with a time it is the time of the day.

    Raises a `ColumnError` if a level is no time, or some have two numbers, others three, and `first` does not say whether
    the first of two counts ``hours`` or ``minutes``.
    """
    if take not in TAKEN:
        raise MarkbaseError(
            f"`{take}` is nothing to count a time in; there are `hours`, `minutes` and `seconds`.{near(take, TAKEN)}"
        )
    if first not in (None, "hours", "minutes"):
        raise MarkbaseError(f"The first of two numbers counts `hours` or `minutes`, not {first!r}.")
    if not column.is_categorical:
        raise ColumnError(f"`{column.name}` is numeric, and holds no times; times are texts such as 19:30.")
    here = np.flatnonzero(column.counts)
    codes = [_time_of(level.code) for level in column.levels]
    bad = next((k for k in here if _CLOCK.fullmatch(codes[k]) is None), None)
    if bad is not None:
        raise ColumnError(
            f"`{column.name}` holds `{column.levels[bad].label}` ({count_noun(int(column.counts[bad]), 'row')}), which is no time such as "
            f"19:30; blank it, or mend it."
        )
    told = [match for k in here if (match := _CLOCK.fullmatch(codes[k]))]
    if first is None and len({match[3] is None for match in told}) > 1:
        two, three = (next(m[0] for m in told if (m[3] is None) == short) for short in (True, False))
        raise ColumnError(
            f"`{column.name}` holds `{two}` and `{three}`, and nothing says whether the first of two numbers counts hours or minutes; say which."
        )
    seconds = np.array([_seconds(code, first or "hours") for code in codes], dtype=np.float64)
    parts = seconds / TAKEN[take]
    short = any(match[3] is None for match in told)
    how = (
        f", {'hours and minutes' if (first or 'hours') == 'hours' else 'minutes and seconds'} where there are two numbers"
        if short
        else ""
    )
    words = f"`{column.name}` in {take}"
    new = Column(
        name,
        "numeric",
        look_up(np.append(parts, np.nan), column.values),
        label=words.replace("`", ""),
        unit=Unit(take.removesuffix("s"), take),
        made=Made(f"in {take}", (column.name,)),
    )
    new = with_missing(new, column)
    learn([new.values])
    low, high = new.span
    notes: tuple[str, ...] = ()
    if seconds[here].max() < TAKEN["hours"] * 24 and seconds[here].max() >= _LATE and seconds[here].min() < _EARLY:
        notes = (
            "the day begins anew at midnight: if these are times of the day, 23:50 and 0:10 are near each other and stand far apart here",
        )
    text = f"Made `{name}`, {words}{how} ({count_noun(new.valid, 'row')} with a value, {plain(low, 6)} to {plain(high, 6)})"
    return Recode(
        new, levels_by_number(column, new, parts, notes, "time"), f"{text}{'; ' if notes else ''}{'; '.join(notes)}."
    )


def _time_of(code: str) -> str:
    """Return the time behind a date, without its zone; anything else as it is."""
    found = _WITH_A_DAY.fullmatch(code)
    return found[2] if found and read_as_dates([found[1]]) else code


def _seconds(code: str, first: str) -> float:
    """Return the seconds of a time; NaN for what is none."""
    match = _CLOCK.fullmatch(code)
    if match is None:
        return np.nan
    one, two = int(match[1]), int(match[2])
    if match[3] is None and first == "minutes":
        return 60.0 * one + two
    hours = one % 12 + (12 if match[4].lower() == "p" else 0) if match[4] else one
    return 3600.0 * hours + 60.0 * two + float((match[3] or "0").replace(",", "."))
