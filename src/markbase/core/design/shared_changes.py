"""Outcomes that are a change, from one column to another: beside what the change began from, and without it.

References
----------
Lord (1967), Psychological Bulletin 68(5), 304-305, doi:10.1037/h0025105 (groups that began apart, compared by change or by what they ended with).
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any, NamedTuple

import numpy as np

from markbase.core.design.shared import ROUNDING, Shared
from markbase.core.rows.row_functions import sample_of
from markbase.core.study.column import Column

_MOST_OTHERS, _MOST_PAIRED, _GLANCE, _FEWEST_ROWS = 500, 100, 12, 10
"""Columns that are looked through, and that are looked through in pairs, the rows of a first glance, and rows that tell."""


class Beginning(NamedTuple):
    """What an outcome, a change, began from."""

    column: Column
    """The column that stands first in the data."""
    later: Column
    """The one it is held against."""
    turned: bool
    """Whether the outcome is the first less the later one."""

    @property
    def words(self) -> str:
        """What the outcome is, as a phrase."""
        first, second = (self.column, self.later) if self.turned else (self.later, self.column)
        return f"`{first.name}` − `{second.name}`"


def by_change(outcome: Column, terms: Iterable[Column], others: Sequence[Column]) -> list[Shared]:
    """Say that an outcome is the change from a term to another column, or back, in every row, though nobody says that it was made so.

    An outcome with values below 0, which parts of a total do not have. More than 500 others are not looked through.
    """
    if not _may_be_change(outcome) or not 0 < len(others) <= _MOST_OTHERS:
        return []
    y, glance, first = _at_a_glance(outcome, others)
    told = []
    for term in (t for t in terms if not t.is_categorical and t.made is None):
        for sign, words, way, back in (
            (1, "`{other}` − `{term}`", "below", ""),
            (-1, "`{term}` − `{other}`", "above", ", of the other sign"),
        ):
            likely = ~_are_off(first, sample_of(term.values)[glance], sign * y).any(axis=1)
            for other in (others[int(k)] for k in np.flatnonzero(likely)):
                if not _is_sum(other, term, outcome, sign):
                    continue
                text = (
                    f"`{outcome.name}` is {words.format(other=other.name, term=term.name)} in every row, and `{term.name}` is in the model: the two go together by "
                    f"construction, with a slope {way} 0 by chance alone (regression to the mean). With `{other.name}` as the outcome the other terms "
                    f"have the same coefficients{back}."
                )
                told.append(Shared(term.name, text))
    return told


def beginning_of(outcome: Column, inside: Iterable[str], columns: Sequence[Column]) -> Beginning | None:
    """Return what an outcome began from that is the difference of two columns of the data in every row, neither of which is in the model; None for none.

    The one that stands first in the data is taken for what came first. More than 100 columns are not tried in pairs.
    """
    if not _may_be_change(outcome) or not 2 <= len(columns) <= _MOST_PAIRED:
        return None
    y, _, first = _at_a_glance(outcome, columns)
    taken = {*inside}
    likely = ~_are_off(first[:, None], first[None], y).any(axis=-1)
    for k, j in zip(*np.nonzero(likely), strict=True):
        more, less = columns[int(k)], columns[int(j)]
        if k == j or taken & {more.name, less.name} or not _is_sum(more, less, outcome, 1):
            continue
        return Beginning(more, less, True) if k < j else Beginning(less, more, False)
    return None


def _may_be_change(outcome: Column) -> bool:
    return not outcome.is_categorical and bool(outcome.valid) and outcome.span[0] < 0 < outcome.span[1]


def _at_a_glance(outcome: Column, columns: Sequence[Column]) -> tuple[Any, Any, Any]:
    """Return a few values of an outcome, in which rows they are, and those of other columns there."""
    glance = np.flatnonzero(sample_of(outcome.present))[:_GLANCE]
    return sample_of(outcome.values)[glance], glance, np.array([sample_of(c.values)[glance] for c in columns])


def _is_sum(whole: Column, part: Column, other: Column, sign: int) -> bool:
    """Return whether a column is the sum of two others, the second times a sign, in every row that has all three, and these are not few."""
    there = whole.present & part.present & other.present
    far = _are_off(whole.values[there], part.values[there], sign * other.values[there])
    return not (sample_of(far).any() or len(far) < _FEWEST_ROWS or far.any())


def _are_off(sums: Any, one: Any, other: Any) -> Any:
    """Return where numbers are further from the sum of two others than rounding leads; not where one is missing."""
    return np.abs(sums - (one + other)) > ROUNDING * (np.abs(one) + np.abs(other))
