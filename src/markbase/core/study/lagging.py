"""Looking back in time: values of earlier rows of a series."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import ColumnError, MarkbaseError, count_noun
from markbase.core.formatting import plain
from markbase.core.rows.following import made_along
from markbase.core.rows.parts import in_parts, needs_all
from markbase.core.rows.row_functions import constant
from markbase.core.study.column import Column, Made
from markbase.core.study.transformations import check_numeric
from markbase.core.study.verification import Check, Recode, before_and_after, with_missing

Codes = NDArray[np.integer]
Floats = NDArray[np.float64]
_FOUND, _BEGINS, _GAP, _MISSING, _UNPLACED = range(5)
_WHY = {
    _BEGINS: "start of a series",
    _GAP: "gap in the series",
    _UNPLACED: "place in the series not known",
    _MISSING: "earlier `{}` missing",
}
_MOST_STEPS = 2**53
"""Whole numbers further from 0 are not told apart."""


@dataclass(frozen=True, eq=False)
class _End:
    """What rows leave behind for those that follow: those of the last series that may be looked back at."""

    series: int
    """Which series."""
    begins: int
    """Its first step."""
    steps: NDArray[np.int64]
    """Shape (rows,): their steps, rising; the last one is the last of all."""
    values: NDArray[Any]
    """Shape (rows,): their values."""
    first: int
    """The step of the first row of these rows."""
    order: tuple[int, ...] = ()
    """The series in the order of the rows."""


def lag(column: Column, by: int, order: Column, within: Column | None, name: str) -> Recode:
    """Look back in time: the value of the row that is `by` steps of `order` earlier, within each series.

    Rows without such a row are missing, with the reason. Raises a `ColumnError` if the order is not in whole numbers, or a
    series has two rows at one step; a `MarkbaseError` if rows come in parts, and are not sorted by series and order.
    """
    if name == column.name:
        raise ColumnError(f"Give the earlier value a name of its own: `{name}` is the column it is made of.")
    if isinstance(by, bool) or not isinstance(by, int) or not 1 <= by < 2**31:
        raise ColumnError(f"A lag looks back by 1 or more steps, not {by!r}.")
    check_numeric(order, "lag")
    if within is not None and not within.is_categorical:
        raise ColumnError(f"`{within.name}` is numeric; a lag goes within the levels of a group.")
    zeros = constant(0, order.values)
    trees = (zeros if within is None else within.values, order.values, column.values)
    parts = in_parts(*trees)
    lags = _Lags(by, order.name, within, -1 if column.is_categorical else np.nan, parts)
    values, why = (
        made_along(2, lags.end_of, _Joined(lags), lags.earlier, *trees) if parts else lags.in_any_order(*trees)
    )
    new = Column(
        name,
        column.kind,
        values.astype(column.values.dtype, copy=False),
        levels=column.levels,
        base=column.base,
        label=f"{column.label or column.name}, {count_noun(by, 'step')} of {order.name} earlier",
        unit=column.unit,
        made=Made("lag", (column.name, order.name)),
    )
    reasons = {text.format(column.name): why == kind for kind, text in _WHY.items()}
    new = with_missing(new, Column("", "numeric", zeros.astype(np.float64)), reasons)
    lost = [f"{count_noun(int(m.sum()), 'row')}: {reason}" for reason, m in reasons.items() if m.any()]
    per = f" within `{within.name}`" if within is not None else ""
    text = f"Made `{name}`, `{column.name}` {count_noun(by, 'step')} of `{order.name}` earlier{per}: {count_noun(new.valid, 'row')} with a value"
    ahead = None if parts else _looked_back_to(by, *trees[:2])
    check = _verified(column, new, why == _FOUND, ahead, tuple(lost))
    return Recode(new, check, text + (f" ({'; '.join(lost)} left missing)." if lost else "."))


@dataclass(frozen=True, eq=False)
class _Lags:
    """Looks back."""

    by: int
    """By how many steps."""
    order: str
    """The column that counts them."""
    within: Column | None
    """Whose levels are series of their own."""
    missing: float
    """What stands for a missing value."""
    parts: bool
    """Whether rows come in parts."""

    def in_any_order(self, series: Codes, steps: Floats, values: NDArray[Any]) -> tuple[NDArray[Any], Floats]:
        """Return earlier values, and why there is none, of rows in memory in any order."""
        sorting = np.lexsort((steps, series))
        own = (series[sorting], steps[sorting], values[sorting])
        self.end_of(*own)
        found, why = np.empty(len(values)), np.empty(len(values))
        found[sorting], why[sorting] = self.earlier(None, *own)
        return found, why

    def earlier(self, end: _End | None, series: Codes, steps: Floats, values: NDArray[Any]) -> tuple[Floats, Floats]:
        """Return earlier values, and why there is none, of sorted rows that follow others."""
        placed = (series >= 0) & ~np.isnan(steps)
        own, step, known = series[placed].astype(np.int64), steps[placed].astype(np.int64), values[placed]
        before = 0 if end is None else len(end.steps)
        if end is not None:
            own = np.concatenate([np.full(before, end.series), own])
            step, known = np.concatenate([end.steps, step]), np.concatenate([end.values, known])
        earlier, why = np.full(len(values), self.missing), np.full(len(values), float(_UNPLACED))
        if not placed.any():
            return earlier, why
        fresh = _starts_of(own)
        run = np.repeat(np.arange(len(fresh)), np.diff(np.append(fresh, len(own))))
        begins = step[fresh]
        if end is not None:
            begins[0] = end.begins
        distinct = np.unique(step)
        wanted = np.searchsorted(
            distinct, step - self.by
        )  # none is the end: what is looked for is before the row itself
        key = run * len(distinct) + np.searchsorted(distinct, step)
        at = np.searchsorted(key, run * len(distinct) + wanted)  # no further than the row itself
        there = (step[at] == step - self.by) & (run[at] == run)
        found = np.where(there, known[at], self.missing)
        gone = np.isnan(found) if np.isnan(self.missing) else found < 0
        kinds = np.where(there, np.where(gone, _MISSING, _FOUND), np.where(step - self.by < begins[run], _BEGINS, _GAP))
        earlier[placed], why[placed] = found[before:], kinds[before:]
        return earlier, why

    def end_of(self, series: Codes, steps: Floats, values: NDArray[Any]) -> _End | None:
        """Return what sorted rows leave behind; None if none has a place in a series."""
        placed = (series >= 0) & ~np.isnan(steps)
        own, exact, known = series[placed].astype(np.int64), steps[placed], values[placed]
        broken = exact[(exact != np.round(exact)) | (np.abs(exact) > _MOST_STEPS)]
        if len(broken):
            raise ColumnError(
                f"`{self.order}` must count the steps in whole numbers{'' if abs(broken[0]) <= _MOST_STEPS else ' of at most 15 digits'}; "
                f"{plain(float(broken[0]))} is none."
            )
        if not len(own):
            return None
        step, fresh = exact.astype(np.int64), _starts_of(own)
        rises = np.diff(step)
        rises[fresh[1:] - 1] = 1  # from one series to the next
        if (rises < 1).any():
            equal = np.flatnonzero(rises == 0)
            row = int(np.flatnonzero(rises < 1)[0])
            raise self.twice(own[row], step[row], len(equal)) if rises[row] == 0 else self.unsorted()
        last = np.flatnonzero((np.arange(len(step)) >= fresh[-1]) & (step > step[-1] - self.by))
        begins = int(step[fresh[-1]])
        return _End(int(own[-1]), begins, step[last], known[last], int(step[0]), tuple(own[fresh].tolist()))

    def twice(self, series: int, step: int, pairs: int) -> ColumnError:
        where = f" of `{self.within.levels[series].label}`" if self.within is not None else ""
        many = "" if self.parts else f" ({count_noun(pairs, 'such pair')})"
        way = "keep one of them" if self.within is not None else "say within which group the steps count"
        return ColumnError(
            f"`{self.order}` has two rows at {plain(float(step))}{where}{many}, so which comes before is not known; {way}."
        )

    def unsorted(self) -> MarkbaseError:
        names = f"`{self.order}`" if self.within is None else f"`{self.within.name}` and, within it, `{self.order}`"
        return needs_all(
            f"a lag over rows that are not sorted by {names},",
            "sort them where the data come from, and open them again",
        )


class _Joined:
    """Joins what parts leave behind, in their order, and makes sure that the rows of a series follow one another."""

    def __init__(self, lags: _Lags) -> None:
        self.lags, self._seen = lags, set[int]()

    def __call__(self, before: _End | None, end: _End | None) -> _End | None:
        """Join what all rows before a part leave behind with what the part does."""
        if end is None:
            return before
        follows = before is not None and end.order[0] == before.series
        fresh = end.order[1:] if follows else end.order
        if not self._seen.isdisjoint(fresh) or len(set(end.order)) < len(end.order):
            raise self.lags.unsorted()
        self._seen.update(fresh)
        end = replace(end, order=())
        if before is None or not follows:
            return end
        last = before.steps[-1]
        if end.first <= last:
            raise self.lags.twice(before.series, end.first, 1) if end.first == last else self.lags.unsorted()
        if len(fresh):
            return end
        steps, values = np.concatenate([before.steps, end.steps]), np.concatenate([before.values, end.values])
        near = steps > steps[-1] - self.lags.by
        return replace(end, begins=before.begins, steps=steps[near], values=values[near])


def _starts_of(series: Codes) -> NDArray[np.intp]:
    """Return where each series begins, of rows in which those of a series follow one another."""
    return np.flatnonzero(np.diff(series, prepend=series[:1] - 1))


def _looked_back_to(by: int, series: Codes, steps: Floats) -> NDArray[np.bool_]:
    """Return which rows in memory have a row of their series so many steps after them."""
    placed = np.flatnonzero((series >= 0) & ~np.isnan(steps))
    distinct, step = np.unique(steps[placed], return_inverse=True)
    after = np.minimum(np.searchsorted(distinct, distinct + by), len(distinct) - 1)
    own = series[placed].astype(np.int64) * len(distinct)
    found = np.zeros(len(series), dtype=bool)
    found[placed] = np.isin(own + after[step], own + step) & (distinct[after] == distinct + by)[step]
    return found


def _verified(
    column: Column, new: Column, found: NDArray[np.bool_], ahead: NDArray[np.bool_] | None, notes: tuple[str, ...]
) -> Check:
    """Verify that rows have a value where one was found, and only there; of rows in memory, that the values are those of all rows that have one after them."""
    old, made = (_as_counts(column), _as_counts(new)) if column.is_categorical else (column, new)
    holds = bool(np.all(new.present == found))
    if ahead is not None:
        holds = holds and np.array_equal(np.sort(old.values[ahead & old.present]), np.sort(made.values[made.present]))
    return Check(new.name, column.name, before_and_after(old, made).table, holds, notes)


def _as_counts(column: Column) -> Column:
    return Column(column.name, "numeric", np.where(column.present, column.values, np.nan).astype(np.float64))
