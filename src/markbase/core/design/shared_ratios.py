"""Ratios of columns of the data, such as shares and rates, that go with the outcome by what they divide, or divide by.

References
----------
Pearson (1897), Proceedings of the Royal Society 60, 489-498, doi:10.1098/rspl.1896.0076 (spurious correlation of ratios).
Kronmal (1993), Journal of the Royal Statistical Society A 156(3), 379-392, doi:10.2307/2983064 (the numerator as the outcome, the denominator a term).
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any, NamedTuple

import numpy as np

from markbase.core.design.shared import ROUNDING, Shared, rounding_room
from markbase.core.formatting import plain
from markbase.core.rows.row_functions import all_of, sample_of
from markbase.core.study.column import Column

_MOST_COLUMNS, _FEWEST_ROWS, _FEWEST_VALUES = 100, 20, 5
"""So many columns are tried; so many rows, and values of each of the three, tell."""
_GLANCE, _FEW, _ROUGHLY, _SOME = 24, 3, 0.02, 500
"""Of so many rows the first three with an outcome that is not 0 are looked at first, for logarithms to base 10 as near to whole numbers."""
_PER = (1.0, 100.0, 1_000.0, 10_000.0, 100_000.0)
"""A share, percent, and so many in a thousand, ten thousand and a hundred thousand."""
_UNEVEN = 3.0
"""What a share is taken of differs from row to row if the most is so many times the least."""


class Ratio(NamedTuple):
    """Of which columns another is the ratio."""

    top: str
    """What is divided."""
    bottom: str
    """By what."""
    per: float
    """Times so much."""

    @property
    def words(self) -> str:
        """What it is, as a phrase."""
        return f"`{self.top}` per {'' if self.per == 1 else f'{self.per:,.0f} '}`{self.bottom}`"


def by_ratio(outcome: Column, terms: Iterable[Column], columns: Sequence[Column], weighed: bool) -> list[Shared]:
    """Say that the outcome is a ratio in every row, of which a term is a part or has one in common, or a term a ratio of which it is a part.

    Also that it is a share of counts that differ from row to row, so that rows do not tell as much as one another, unless they are weighed.
    Columns that a preparing step made are told by how they were made. More than 100 columns are not tried.
    """
    terms, columns = ([c for c in some if not c.is_categorical and c.made is None] for some in (terms, columns))
    if outcome.is_categorical or outcome.made is not None or not 2 <= len(columns) <= _MOST_COLUMNS:
        return []
    likely = _likely(outcome, columns)
    if likely is None:
        return []
    own = _first_that_holds((outcome, columns[k], columns[j]) for k, j in likely[0])
    of_terms: dict[str, Ratio] = {}
    for (k, j), over in [*((pair, True) for pair in likely[1]), *((pair, False) for pair in likely[2])]:
        whole, other = columns[k], columns[j]
        parts = (outcome, other) if over else (other, outcome)
        if whole in terms and whole is not other and (found := _first_that_holds([(whole, *parts)])) is not None:
            of_terms.setdefault(whole.name, found)
    told = [s for t in terms if (s := _of_term(outcome, t, own, of_terms.get(t.name), columns)) is not None]
    return told if own is None or weighed else [*told, *_by_size(outcome, own, columns)]


def _of_term(
    outcome: Column, term: Column, own: Ratio | None, of_term: Ratio | None, columns: Sequence[Column]
) -> Shared | None:
    """Say what a term has to do with the outcome, one of which is a ratio; None for nothing."""
    if own is not None and term.name in own[:2]:
        text = f"`{outcome.name}` is {own.words} in every row, and `{term.name}` is in the model"
    elif of_term is not None:
        text = f"`{term.name}`, which is in the model, is {of_term.words} in every row, and one of these is the outcome"
    elif own is not None:
        bottom = next(c for c in columns if c.name == own.bottom)
        found = _first_that_holds((term, c, bottom) for c in columns if c is not term and c is not bottom)
        if found is None:
            return None
        text = (
            f"`{outcome.name}` is {own.words} in every row, and `{term.name}`, which is in the model, is {found.words}"
        )
    else:
        return None
    text += ": the two go together by construction, and in part that is what their figures say (spurious correlation of ratios)."
    if own is not None:
        text += f" With `{own.top}` as the outcome, and `{own.bottom}` among the terms, nothing is divided."
    return Shared(term.name, text)


def _by_size(outcome: Column, own: Ratio, columns: Sequence[Column]) -> list[Shared]:
    """Say that the outcome is a share of counts that differ from row to row."""
    top, bottom = (next(c for c in columns if c.name == name) for name in own[:2])
    there = all_of([top.present, bottom.present, outcome.present])
    few, many = top.values[there], bottom.values[there]
    whole = all(bool(np.all(v == np.floor(v))) for v in (few, many))
    if not whole or bool((few > many).any()) or bool((few < 0).any()) or many.max() < _UNEVEN * many.min():
        return []
    text = (
        f"`{outcome.name}` is {own.words}, a share of {plain(many.min())} in one row and of {plain(many.max())} in another: the fewer, the more of it is "
        f"chance, and rows count alike here. Weighed by `{own.bottom}` they count by what they can tell; or each of these is a case of its own, in a logistic regression."
    )
    return [Shared("", text)]


def _likely(outcome: Column, columns: Sequence[Column]) -> tuple[list[tuple[int, int]], ...] | None:
    """Return what a few rows do not exclude: columns by which others are divided to give the outcome; and those that are the outcome over another, or another over it.

    Pairs of places among the columns: what is divided and by what; the ratio and the other. None if the outcome has too few values.
    """
    y = sample_of(outcome.values)
    rows = np.flatnonzero(np.abs(y[: 8 * _GLANCE]) > 0)[:_GLANCE]
    if len(np.unique(y[rows])) < _FEWEST_VALUES:
        return None
    rows = rows[np.argsort(-np.abs(y[rows]), kind="stable")[:_FEW]]  # where rounding matters least
    with np.errstate(divide="ignore", invalid="ignore"):
        own, Z = np.log10(np.abs(y[rows])), np.log10(np.abs(np.array([sample_of(c.values)[rows] for c in columns])))
        over, both = Z[:, None, :] - Z[None, :, :], Z[:, None, :] + Z[None, :, :]
        per = np.stack([own - over, both - own, own + over])  # the logarithm of what a ratio would be per
        power = np.rint(per)
        far = (np.abs(per - power) > _ROUGHLY) | (np.abs(power - power[..., :1]) > 0) | np.isinf(per)
    near = ~far.any(axis=-1) & ~np.eye(len(columns), dtype=bool)  # of what is missing, or 0 in all, nothing is excluded
    return tuple(list(zip(*(place.tolist() for place in np.nonzero(kind)), strict=True)) for kind in near)


def _first_that_holds(triples: Iterable[tuple[Column, Column, Column]]) -> Ratio | None:
    """Return the first ratio of a column and two others that holds in every row that has all three, to within rounding; None for none."""
    for whole, top, bottom in triples:
        if not all(_varies(c) for c in (whole, top, bottom)):
            continue
        room = rounding_room(sample_of(whole.values)[sample_of(whole.present)])
        there = all_of([whole.present, top.present, bottom.present])
        y, over, under = (c.values[there] for c in (whole, top, bottom))
        if len(y) < _FEWEST_ROWS:
            continue
        for per in _PER:
            off: Any = np.abs(per * over - y * under) > room * np.abs(under) + 4 * ROUNDING * np.abs(y * under)
            if not sample_of(off).any() and not bool(off.any()):
                return Ratio(top.name, bottom.name, per)
    return None


def _varies(column: Column) -> bool:
    """Return whether a column has more than a few values, in some of the rows that are kept in memory."""
    values = sample_of(column.values)
    some = values[:: max(1, len(values) // _SOME)]
    return len(np.unique(some[~np.isnan(some)])) >= _FEWEST_VALUES
