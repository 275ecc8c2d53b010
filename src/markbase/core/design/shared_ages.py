"""Age, time and year of birth: two of them in a model fix the third, so that a slope of one is as well that of another.

What is so for ages is so for any time since something began: years in a choir, the year, and the year one joined.

References
----------
Mason, Mason, Winsborough & Poole (1973), American Sociological Review 38(2), 242-258, doi:10.2307/2094398.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Sequence

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.shared import Shared
from markbase.core.errors import listed, quoted
from markbase.core.rows.parts import each_part
from markbase.core.rows.row_functions import sample_of
from markbase.core.study.column import Column

_FIRST_YEAR, _LAST_YEAR, _LONGEST = 1800.0, 2200.0, 130.0
"""What whole numbers of years lie between; and what no time since lasts longer than."""
_WITHIN_A_YEAR = {0.0, 1.0}
_MOST, _ROWS, _DIFFERENT = 12, 200, 3
"""So many columns may be years, or times since; the rows of a first glance; and more than two numbers are too many."""
Array = NDArray[np.float64]


def by_ages(terms: Iterable[Column], columns: Sequence[Column]) -> list[Shared]:
    """Say that two columns of a model fix a third of the data, as age and year fix the year of birth, in every row that has all three.

    They do where one is the other year less the time since, or a year before that for those whose day had not come. Of more than twelve years, or
    times since, nothing is asked.
    """
    inside = {c.name for c in terms if not c.is_categorical and c.made is None}
    if len(inside) < 2:
        return []
    plain = [c for c in columns if not c.is_categorical and c.made is None]
    years = [c for c in plain if _FIRST_YEAR <= c.span[0] < c.span[1] <= _LAST_YEAR]
    since = [c for c in plain if 0 <= c.span[0] < c.span[1] <= _LONGEST] if len(years) > 1 else []
    if not since or max(len(years), len(since)) > _MOST:
        return []
    told = []
    for (later, earlier), time in itertools.product(itertools.permutations(years, 2), since):
        names = (time.name, later.name, earlier.name)
        there = [name for name in names if name in inside]
        left = _left(later, earlier, time) if len(there) == 2 else set()
        if not left or (left == {0.0} and time.name not in there):  # a year as the sum of two is told as such
            continue
        first, second = there
        or_more = ", or a year more," if len(left) > 1 else ""
        (third,) = set(names) - set(there)
        turned = time.name in there and third == earlier.name
        other = f"one {'less' if turned else 'more'} of `{third}`" if time.name in there else f"one more of `{third}`"
        told.append(
            Shared(
                first,
                f"{listed(quoted(there))} fix `{third}` (`{later.name}` less `{earlier.name}` is `{time.name}`{or_more} in every row that has all three): with `{second}` held "
                f"equal, one more of `{first}` is {other}, and its slope is that of both together. No model of these rows tells the two apart (age, period and cohort).",
            )
        )
    return told


def _left(later: Column, earlier: Column, time: Column) -> set[float]:
    """Return what is left of one year less another and a time: 0, or 0 and 1; nothing where it is anything else, in a first glance or in all rows."""
    rows = np.linspace(0, max(len(sample_of(later.values)) - 1, 0), _ROWS).astype(np.intp)
    glance = _different(*(sample_of(column.values)[rows] for column in (later, earlier, time)))
    if not glance or not glance <= _WITHIN_A_YEAR:
        return set()
    every = set[float]().union(*each_part(_different, later.values, earlier.values, time.values))
    return every if every <= _WITHIN_A_YEAR else set()


def _different(later: Array, earlier: Array, time: Array) -> set[float]:
    """Return the different numbers that are left, some of many; none where no row has all three."""
    left = later - earlier - time
    return set(np.unique(left[~np.isnan(left)])[:_DIFFERENT].tolist())
