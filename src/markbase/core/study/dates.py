"""Numbers made of dates, months and quarters: a calendar year or month, or the time since or until a day."""

from __future__ import annotations

import datetime
import functools
import re
import unicodedata
from collections.abc import Sequence

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.errors import ColumnError, MarkbaseError, count_noun, near
from markbase.core.formatting import plain
from markbase.core.rows.row_functions import learn, look_up
from markbase.core.study.column import Column, Level, Made, Unit
from markbase.core.study.column_types import with_default_base
from markbase.core.study.verification import Check, Recode, before_and_after, levels_by_number, with_missing

Array = NDArray[np.float64]
_TIME = r"(?:[T ]\d{1,2}:\d{2}.*)?"
_YEAR_FIRST = re.compile(rf"(\d{{4}})([-/.])(\d{{1,2}})\2(\d{{1,2}}){_TIME}")
_YEAR_LAST = re.compile(rf"(\d{{1,2}})([-/.])(\d{{1,2}})\2(\d{{4}}){_TIME}")
_SHORT = re.compile(rf"(\d{{1,2}})([-/.])(\d{{1,2}})\2\d{{2}}{_TIME}")
_MONTH_OF_YEAR = re.compile(r"(1[5-9]\d\d|2[01]\d\d)-(0[1-9]|1[0-2])")
_YEAR_OF_MONTH = re.compile(r"(0?[1-9]|1[0-2])[-/](1[5-9]\d\d|2[01]\d\d)")
_QUARTER_OF_YEAR = re.compile(r"(\d{4})[-/ ]?[Qq]([1-4])")
_YEAR_OF_QUARTER = re.compile(r"[Qq]([1-4])[-/ ]?(\d{4})")
_WORD = r"([^\W\d_]{3,})\.?"
_MONTH_BY_NAME = re.compile(rf"{_WORD}[ -]*(\d{{4}})|(\d{{4}})[ -]*{_WORD}")
_DAY_BY_NAME = re.compile(
    rf"(\d{{1,2}})\.?(?:st|nd|rd|th)?[ -]*{_WORD},?[ -]*(\d{{4}})|{_WORD} (\d{{1,2}})(?:st|nd|rd|th)?,? (\d{{4}})"
)
_NAMES = (
    "january januar jänner janvier enero gennaio",
    "february februar février febrero febbraio",
    "march märz mars marzo",
    "april avril abril aprile",
    "may mai mayo maggio",
    "june juni juin junio giugno",
    "july juli juillet julio luglio",
    "august août agosto",
    "september septembre septiembre settembre",
    "october oktober octobre octubre ottobre",
    "november novembre noviembre",
    "december dezember décembre diciembre dicembre",
)
"""The months in some languages; they may be cut short where that leaves one of them."""
TAKEN = ("days", "month", "months", "weekday", "year", "years")
"""What is taken of a date."""
_CALENDAR = ("month", "weekday", "year")
_WEEKDAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
YEAR_DAYS = 365.2425
"""Days of a year, on average over the calendar's 400 years."""


def read_as_dates(texts: Sequence[str]) -> bool:
    """Return whether all texts have the form of a date, or of a month or quarter of a year, which is taken as its first day."""
    return bool(len(texts)) and all(map(_is_date, texts))


def _is_date(text: str) -> bool:
    written = _YEAR_FIRST.fullmatch(text) or _YEAR_LAST.fullmatch(text) or _first_month(text) or _named_day(text)
    return bool(written) or _is_short(text)


def _first_month(text: str) -> tuple[int, int] | None:
    """Return the year and the first month of a month (``2018-03``, ``March 2018``) or a quarter (``2018 Q1``); None for anything else."""
    if named := _MONTH_BY_NAME.fullmatch(text):
        month = _month_named(named[1] or named[4])
        return None if month is None else (int(named[2] or named[3]), month)
    for form, year, part, months in (
        (_MONTH_OF_YEAR, 1, 2, 1),
        (_YEAR_OF_MONTH, 2, 1, 1),
        (_QUARTER_OF_YEAR, 1, 2, 3),
        (_YEAR_OF_QUARTER, 2, 1, 3),
    ):
        if match := form.fullmatch(text):
            return int(match[year]), months * int(match[part]) - months + 1
    return None


def _named_day(text: str) -> tuple[int, int, int] | None:
    """Return the year, month and day of a date whose month is a word (``4 March 2018``); None for anything else."""
    found = _DAY_BY_NAME.fullmatch(text)
    month = None if found is None else _month_named(found[2] or found[4])
    return None if found is None or month is None else (int(found[3] or found[6]), month, int(found[1] or found[5]))


@functools.cache
def _month_named(word: str) -> int | None:
    """Return the number of a month by its name, whole or cut short; None for another word, or one that two months begin with."""
    start = _without_accents(word)
    found = {k for k, names in enumerate(_NAMES, 1) if f" {start}" in f" {_without_accents(names)}"}
    return found.pop() if len(found) == 1 else None


def _without_accents(text: str) -> str:
    return "".join(c for c in unicodedata.normalize("NFKD", text.casefold()) if not unicodedata.combining(c))


def _is_short(text: str) -> bool:
    """Return whether a text is a date with a year of two digits, and no number of chapters or codes."""
    match = _SHORT.fullmatch(text)
    low, high = sorted((int(match[1]), int(match[3]))) if match else (0, 0)
    return 1 <= low <= 12 and high <= 31


def has_short_years(texts: Sequence[str]) -> bool:
    """Return whether a date has a year of two digits, which does not say its century."""
    return any(map(_is_short, texts))


def day_stands_first(texts: Sequence[str]) -> bool | None:
    """Return whether the day stands before the month; None where nothing says it: no number above 12, and no points between them."""
    sure = _surely_first(texts)
    points = any(match[2] == "." for text in texts if (match := _YEAR_LAST.fullmatch(text)))
    return True if sure is None and points else sure


def _surely_first(texts: Sequence[str]) -> bool | None:
    """Return the same by numbers above 12 alone, which no month has; true where years stand first, and there is nothing to ask."""
    found = [match for text in texts if (match := _YEAR_LAST.fullmatch(text))]
    if not found or any(int(m[1]) > 12 for m in found):
        return True
    return False if any(int(m[3]) > 12 for m in found) else None


def first_and_last(texts: Sequence[str]) -> tuple[str, str] | None:
    """Return the earliest and the latest of some dates as they are written; None if nothing says which stands first, or one is none."""
    days = days_of(texts)
    return None if np.isnan(days).any() else (texts[int(np.argmin(days))], texts[int(np.argmax(days))])


def first_of_one_year(texts: Sequence[str]) -> str | None:
    """Return the earliest of some dates, as year-month-day, where all are of one year; None where they are not, or nothing says it."""
    days = days_of(texts)
    if np.isnan(days).any():
        return None
    first, last = (datetime.date.fromordinal(int(day)) for day in (min(days), max(days)))
    return first.isoformat() if first.year == last.year else None


def first_of_months(texts: Sequence[str]) -> str | None:
    """Return the earliest of some dates, as year-month-day, where all are of the same day of their months, and so stand for months; None where they are not."""
    days = days_of(texts)
    if np.isnan(days).any() or len({datetime.date.fromordinal(int(day)).day for day in days}) > 1:
        return None
    return datetime.date.fromordinal(int(min(days))).isoformat()


def days_of(texts: Sequence[str]) -> list[float]:
    """Return the days of some dates; NaN for what is none, and for all where nothing says which stands first."""
    order = day_stands_first(texts)
    return [np.nan if order is None else _day_of(text, order) for text in texts]


def _day_of(text: str, day_first: bool) -> float:
    if match := _YEAR_FIRST.fullmatch(text):
        year, month, day = int(match[1]), int(match[3]), int(match[4])
    elif match := _YEAR_LAST.fullmatch(text):
        day, month, year = int(match[1]), int(match[3]), int(match[4])
        day, month = (day, month) if day_first else (month, day)
    elif period := _first_month(text):
        (year, month), day = period, 1
    elif named := _named_day(text):
        year, month, day = named
    else:
        return np.nan
    try:
        return float(datetime.date(year, month, day).toordinal())
    except ValueError:  # a day that no month has
        return np.nan


def from_date(
    column: Column,
    take: str,
    name: str,
    since: Column | str | None = None,
    until: Column | str | None = None,
    day_first: bool | None = None,
) -> Recode:
    """Make a number of a group of dates, or a group of their days of the week; `take` is one of `TAKEN`.

    Days, months of the calendar and years are counted `since` or `until` a date, or another column of dates. Raises a `ColumnError` if a level is
    no date, or nothing says whether the day stands before the month.
    """
    if take not in TAKEN:
        raise MarkbaseError(
            f"`{take}` is nothing to take of a date; there are `days`, `month`, `months`, `weekday`, `year` and `years`.{near(take, TAKEN)}"
        )
    ends = [end for end in (since, until) if end is not None]
    if take in _CALENDAR and ends:
        raise MarkbaseError(
            f"The {take} of `{column.name}` is that of the calendar; only days, months and years are counted since or until a day."
        )
    if take not in _CALENDAR and len(ends) != 1:
        raise MarkbaseError(
            f"The {take} of `{column.name}` are counted since a day or until one: give one of the two, not {'both' if ends else 'none'}."
        )
    days, how = _days_and_order(column, day_first)
    if take == "weekday":
        return _weekdays(column, name, days, how)
    if not ends:
        parts = np.array([_part_of(day, take) for day in days])
        words = f"the {take} of `{column.name}`"
        return _made(column, name, take, words + how, look_up(np.append(parts, np.nan), column.values), parts)
    end, forward = ends[0], until is None
    there = f"`{end.name}`" if isinstance(end, Column) else end
    words = f"the {take} from {there} to `{column.name}`" if forward else f"the {take} from `{column.name}` to {there}"
    side = f"{'before' if forward else 'after'} {there}"
    per = (1.0 if forward else -1.0) * (YEAR_DAYS if take == "years" else 1.0)
    if take == "months":
        days = _months_of(days)
    if isinstance(end, Column):
        others, also = _days_and_order(end, day_first, beside=True)
        others = _months_of(others) if take == "months" else others
        values = look_up(np.append(days, np.nan), column.values) - look_up(np.append(others, np.nan), end.values)
        return _made(column, name, take, words + (how or also), values / per, None, end, side)
    day = _day_of(end, True) if _YEAR_FIRST.fullmatch(end) or _first_month(end) or _named_day(end) else np.nan
    if np.isnan(day):
        raise MarkbaseError(
            f"`{end}` is neither a column nor a date; a date is written as year-month-day, for instance 2020-06-30."
        )
    parts = (days - (_months_of(np.array([day])) if take == "months" else day)) / per
    return _made(column, name, take, words + how, look_up(np.append(parts, np.nan), column.values), parts, None, side)


def _weekdays(column: Column, name: str, days: Array, how: str) -> Recode:
    """Return the group of the days of the week of some dates, of those that occur, from Monday on; `days` are those of the levels."""
    of_level = np.array([-1 if np.isnan(day) else datetime.date.fromordinal(int(day)).weekday() for day in days])
    here = np.unique(of_level[(column.counts > 0) & (of_level >= 0)])
    place = np.full(len(_WEEKDAYS) + 1, -1, dtype=np.int32)
    place[here] = np.arange(len(here))
    words = f"weekday of {column.name}"
    new = Column(
        name,
        "categorical",
        look_up(np.append(place[of_level], np.int32(-1)), column.values),
        label=words,
        levels=tuple(Level(str(k + 1), _WEEKDAYS[k], True) for k in here),
        made=Made(words, (column.name,)),
    )
    new = with_default_base(with_missing(new, column))
    dates = [int(np.count_nonzero((of_level == k) & (column.counts > 0))) for k in here]
    table = pd.DataFrame({"old": [count_noun(n, "date") for n in dates], "new": list(new.labels), "rows": new.counts})
    check = Check(name, column.name, table, new.valid == column.valid == int(new.counts.sum()))
    return Recode(
        new, check, f"Made `{name}`, the weekday of `{column.name}`{how} ({count_noun(new.valid, 'row')} with a value)."
    )


def _made(
    column: Column,
    name: str,
    take: str,
    words: str,
    values: Array,
    parts: Array | None,
    other: Column | None = None,
    side: str = "",
) -> Recode:
    """Return the new column; of one date, with the number of each level, and of which side of a day is below 0."""
    one = take.removesuffix("s")
    plainly = words.replace("`", "")
    made = Made(plainly.removeprefix("the "), (column.name,) if other is None else (column.name, other.name))
    new = Column(name, "numeric", values, label=plainly, unit=Unit(one, f"{one}s"), made=made)
    new = with_missing(new, column, {} if other is None else {f"no date in {other.name}": ~other.present})
    learn([new.values])
    below = int(np.count_nonzero(new.values < 0))
    notes = (f"{count_noun(below, 'row')} below 0, {side}",) if below else ()
    check = before_and_after(new, new, notes) if parts is None else levels_by_number(column, new, parts, notes, "date")
    low, high = new.span
    told = f"{count_noun(new.valid, 'row')} with a value, {plain(low, 6)} to {plain(high, 6)}"
    return Recode(new, check, f"Made `{name}`, {words} ({told}{'; ' if notes else ''}{'; '.join(notes)}).")


def _days_and_order(column: Column, day_first: bool | None, beside: bool = False) -> tuple[Array, str]:
    """Return the day of each level, counted from the first of the year 1, and which stood first if that had to be said."""
    if not column.is_categorical:
        raise ColumnError(f"`{column.name}` is numeric, and holds no dates; dates are texts such as 2020-06-30.")
    here = np.flatnonzero(column.counts)
    codes = [level.code for level in column.levels]
    told, known = _surely_first([codes[k] for k in here]), day_stands_first([codes[k] for k in here])
    last = [codes[k] for k in here if _YEAR_LAST.fullmatch(codes[k])]
    if known is None and day_first is None:
        raise ColumnError(
            f"Nothing in the dates of `{column.name}` says whether `{last[0]}` has the day or the month first; say which."
        )
    if last and told is not None and day_first is not None and told != day_first and not beside:
        raise ColumnError(
            f"The dates of `{column.name}` have the {'day' if told else 'month'} first: a number above 12 says so."
        )
    if told is None:
        told, said = (
            (known, "") if day_first is None else (day_first, f", {'day' if day_first else 'month'} first as given")
        )
    else:
        said = ""
    days = np.array([_day_of(code, bool(told)) for code in codes], dtype=np.float64)
    bad = next((k for k in here if np.isnan(days[k])), None)
    if bad is not None and _is_short(codes[bad]):
        raise ColumnError(
            f"`{codes[bad]}` of `{column.name}` has a year of two digits, which does not say its century; write years with four digits."
        )
    if bad is not None:
        raise ColumnError(
            f"`{codes[bad]}` ({count_noun(int(column.counts[bad]), 'row')}) of `{column.name}` is no date; blank it first, or mend it."
        )
    return days, said


def _months_of(days: Array) -> Array:
    """Return how many months of the calendar lie before those of some days."""
    return np.array([12 * _part_of(day, "year") + _part_of(day, "month") for day in days])


def _part_of(day: float, part: str) -> float:
    """Return the calendar year or month of a day."""
    return np.nan if np.isnan(day) else float(getattr(datetime.date.fromordinal(int(day)), part))
