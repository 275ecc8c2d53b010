"""What puts rows in order of time: numbers, dates, and groups whose levels have an order that is known."""

from __future__ import annotations

import re
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import ColumnError, count_noun, named
from markbase.core.rows.parts import in_parts
from markbase.core.rows.row_functions import look_up
from markbase.core.study.column import Column
from markbase.core.study.dates import days_of, read_as_dates
from markbase.core.study.declarations import numbered
from markbase.core.study.group_remarks import answers_of, holds_dates
from markbase.core.study.level_order import ordered
from markbase.core.study.numeric_remarks import CALENDAR
from markbase.core.study.study import Study

Array = NDArray[np.float64]
_FEWEST, _MOST = 2, 20_000
"""More than so few dates tell rows apart; of more than so many nobody asks."""
_NUMBER = re.compile(r"\d+")
_YEAR = re.compile(r"\d{4}(?!\d)")
_NAMED = re.compile(
    rf"(?<![a-z])({CALENDAR}|dates?|terms?|semesters?|seasons?|waves?|rounds?|occasions?|visits?|sessions?|trials?|t|welle)(?![a-z])"
)

_AMOUNT = re.compile(
    r"(n|no|num|number|count|total|sum|mean|hours)[ _-].*|"
    r"(years|quarters|months|weeks|days|times|periods|terms|semesters|seasons|waves|rounds|visits|sessions|trials)[ _-]+(?!since|after|from|into)[a-z].*"
)
"""What is called so counts something, such as years of singing or days absent, and tells no time; months since something do."""


def times_of(column: Column) -> Array:
    """Return where the rows of a column stand in time, shape (rows,), NaN where nothing says it.

    Numbers stand for themselves, dates for their days. Levels of any other group stand in the order in which they were declared, or in which
    the numbers in them rise (`wave 1`, `wave 2`, …). Raises a `ColumnError` for levels of which nothing tells the order.
    """
    if not column.is_categorical:
        return np.asarray(column.values, dtype=np.float64)
    found: Array = look_up(np.append(_places_of(column), np.nan), column.values)
    return found


def periods_of(column: Column) -> Column:
    """Return a group of the times that a column has, its levels in their order; raises a `ColumnError` where nothing tells the order."""
    if not column.is_categorical:
        return numbered(column)
    places = _places_of(column)
    here = np.flatnonzero(column.counts)
    if (odd := here[np.isnan(places[here])]).size:
        raise ColumnError(
            f"`{column.levels[odd[0]].code}` of `{column.name}` is no date ({count_noun(len(odd), 'such level')}), so that nothing tells when it was: blank it first."
        )
    _, ranks = np.unique(places, return_inverse=True)
    first = np.unique(ranks, return_index=True)[1]
    levels = tuple(column.levels[k] for k in first)
    return replace(
        column, levels=levels, values=look_up(np.append(ranks, -1).astype(np.int32), column.values), base=None
    )


def _places_of(column: Column) -> Array:
    """Return where the levels of a group stand in time, shape (levels,), NaN for one that is no date among dates; raises as `times_of`."""
    here, codes = np.flatnonzero(column.counts), [level.code for level in column.levels]
    if read_as_dates(answers_of(column)):
        places = np.array(days_of(codes), dtype=np.float64)
        if np.isnan(places).all():
            raise ColumnError(
                f"Nothing in the dates of `{column.name}` says whether the day or the month stands first, so they have no order: make a number "
                f"of them first (days since a day), with that said."
            )
    elif not column.guess:
        places = np.arange(len(codes), dtype=np.float64)
    elif _rise_with_numbers([codes[k] for k in here]):
        places = np.argsort(ordered(codes)[0]).astype(np.float64)
    else:
        raise ColumnError(
            f"Nothing puts the levels of `{column.name}` ({named([codes[k] for k in here], 3)}) in order of time: make a number of them, or declare "
            f"them in their order in a codebook."
        )
    return places


def _rise_with_numbers(texts: list[str]) -> bool:
    """Return whether texts differ only in the numbers within them, of which the first puts them in order, the only one or a year."""
    forms = {_NUMBER.sub("#", text.casefold()) for text in texts}
    return len(forms) == 1 and "#" in (form := forms.pop()) and (form.count("#") == 1 or all(map(_YEAR.match, texts)))


def columns_of_times(study: Study, outcome: str) -> tuple[Column, ...]:
    """Return the columns that may tell when rows in memory were measured, by a first glance: `are_times` looks at all of one."""
    return tuple(
        column
        for name in study.columns
        if name != outcome and not in_parts((column := study[name]).values) and _may_be_times(column)
    )


def _may_be_times(column: Column) -> bool:
    if column.role is not None:
        return False
    if column.is_categorical:
        return _FEWEST < len(column.levels) <= _MOST and read_as_dates([column.levels[-1].code])
    name = column.name.lower()
    return bool(_NAMED.search(name)) and not _AMOUNT.fullmatch(name)


def are_times(column: Column) -> bool:
    """Return whether a column holds dates, or whole numbers."""
    if column.is_categorical:
        return holds_dates(column)
    return bool(np.all((column.values == np.floor(column.values)) | np.isnan(column.values)))
