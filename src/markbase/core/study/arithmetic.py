"""New numeric columns from several numeric columns: sums, means of a scale, differences, ratios, rates, and earlier values."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import ColumnError, count_noun, listed, quoted
from markbase.core.formatting import short
from markbase.core.rows.parts import in_parts, needs_all
from markbase.core.rows.row_functions import any_of, sum_of
from markbase.core.study.column import Column, Made, Unit
from markbase.core.study.transformations import check_numeric
from markbase.core.study.verification import Check, Recode, before_and_after, with_missing

ARITHMETIC = ("difference", "mean", "product", "rate", "ratio", "sum")


def combine(columns: Sequence[Column], how: str, name: str, least: int | None, per: float) -> Recode:
    """Compute a new numeric column from several.

    Parameters
    ----------
    columns : sequence of Column
        Numeric columns: two or more for ``sum`` and ``mean``, two for the others.
    how : str
        ``sum``, ``mean``, ``difference`` (first less second), ``product``, ``ratio`` (first over second) or
        ``rate`` (first per so many of the second).
    name : str
        The name of the new column.
    least : int, optional
        For ``sum`` and ``mean``: items that must be answered; by default all. A mean is over the
        items answered; a sum is that mean times the number of items, so that a gap is not a zero.
    per : float
        For ``rate``: per how many of the second.

    Returns
    -------
    Recode
        The new numeric column. The columns it was made of are remembered.

    Raises
    ------
    ColumnError
        If a column is categorical, the number of columns or of items is wrong, or `per` is not positive.
    """
    for column in columns:
        check_numeric(column, how)
    names = [c.name for c in columns]
    if len(columns) < 2 or (how not in ("sum", "mean") and len(columns) != 2):
        raise ColumnError(
            f"`{how}` needs {'two or more' if how in ('sum', 'mean') else 'exactly two'} columns, not {len(columns)}."
        )
    if len(set(names)) < len(names):
        raise ColumnError(f"`{how}` names a column twice: {listed(quoted(names))}.")
    if how == "rate" and not per > 0:
        raise ColumnError(f"A rate is per a positive number, not {per!r}.")
    if how in ("sum", "mean"):
        return _items(columns, how, name, least)
    present = columns[0].present & columns[1].present
    first, second = (np.where(present, c.values, 1.0) for c in columns)
    zero = present & (second == 0) if how in ("rate", "ratio") else present & False
    if how == "difference":
        values = np.where(present, first - second, np.nan)
        words, unit = f"`{names[0]}` less `{names[1]}`", columns[0].unit
    elif how == "product":
        values = np.where(present, first * second, np.nan)
        words, unit = f"`{names[0]}` times `{names[1]}`", None
    else:
        with np.errstate(divide="ignore", invalid="ignore"):
            values = np.where(present & ~zero, first / second * (per if how == "rate" else 1.0), np.nan)
        times = f"per {short(per)} of" if how == "rate" else "over"
        words, unit = f"`{names[0]}` {times} `{names[1]}`", None
    new = Column(
        name,
        "numeric",
        values,
        label=words.replace("`", ""),
        unit=unit,
        made=Made(how, tuple(names), tuple(columns), (float(per),)),
    )
    new = with_missing(new, columns[0], _others(columns) | {f"`{names[1]}` is 0": zero})
    notes = [f"{count_noun(int(zero.sum()), 'row')} with `{names[1]}` = 0 left missing"] if zero.any() else []
    return _recode(columns, new, f"Made `{name}`, {words}", notes)


def _items(columns: Sequence[Column], how: str, name: str, least: int | None) -> Recode:
    needed = len(columns) if least is None else least
    if not 1 <= needed <= len(columns):
        raise ColumnError(
            f"At least {needed} of {len(columns)} items answered is not possible; give least between 1 and {len(columns)}."
        )
    answered = sum_of([c.present for c in columns])
    enough = answered >= needed
    total = sum_of([np.where(c.present, c.values, 0.0) for c in columns])
    partial = enough & (answered < len(columns))
    mean = total / np.maximum(answered, 1)
    values = mean if how == "mean" else np.where(partial, mean * len(columns), total)
    values = np.where(enough, values, np.nan)
    made = Made(how, tuple(c.name for c in columns), tuple(columns))
    units = {c.unit for c in columns}
    new = Column(
        name,
        "numeric",
        values,
        label=f"{how} of {', '.join(c.name for c in columns)}",
        unit=units.pop() if len(units) == 1 else Unit("unit", "units"),
        made=made,
    )
    like = Column("", "numeric", np.where(enough, 0.0, 0.0))
    reason = "an item missing" if needed == len(columns) else f"fewer than {needed} of {len(columns)} items answered"
    new = with_missing(new, like, {reason: ~enough})
    notes = [f"needs {needed} of {len(columns)} items answered: {count_noun(int((~enough).sum()), 'row')} missing"]
    if partial.any():
        filled = "averaged over the items answered" if how == "mean" else "scaled up from the items answered"
        notes.append(f"{count_noun(int(partial.sum()), 'row')} {filled}")
    low = [c for c in columns if c.valid]
    spans = {c.span for c in low}
    if how == "mean" and len(spans) > 1:
        notes.append("the items do not all span the same range: are they one scale, and all worded the same way round?")
    return _recode(columns, new, f"Made `{name}`, the {how} of {listed(quoted([c.name for c in columns]))}", notes)


def _others(columns: Sequence[Column]) -> dict[str, NDArray[np.bool_]]:
    return {f"`{c.name}` missing": ~c.present for c in columns[1:]}


def _recode(columns: Sequence[Column], new: Column, text: str, notes: list[str]) -> Recode:
    first = before_and_after(columns[0], new)
    table = first.table.rename(columns={"before": columns[0].name, "after": new.name})
    for column in columns[1:]:
        table.insert(table.shape[1] - 1, column.name, before_and_after(column, new).table["before"])
    possible = any_of([c.present for c in columns])
    passed = not bool(np.any(new.present & ~possible)) and bool(np.all((new.reasons() > 0) == ~new.present))
    check = Check(new.name, ", ".join(c.name for c in columns), table, passed, tuple(notes))
    return Recode(
        new, check, f"{text}: {new.valid:,} rows with a value" + (f" ({'; '.join(notes)})." if notes else ".")
    )


def lag(column: Column, by: int, order: Column, within: Column | None, name: str) -> Recode:
    """Look back in time: the value of an earlier row.

    Parameters
    ----------
    column : Column
        The column whose earlier value is wanted, a numeric column or a group.
    by : int
        How many steps of `order` to look back, 1 or more.
    order : Column
        A numeric column that counts the steps in whole numbers.
    within : Column, optional
        A group whose levels are series of their own; no value is taken across them.
    name : str
        The name of the new column.

    Returns
    -------
    Recode
        The earlier values. Rows without a row `by` steps before them are missing, with the reason.

    Raises
    ------
    ColumnError
        If the order is not in whole numbers, or a series has two rows at one step.
    """
    if name == column.name:
        raise ColumnError(f"Give the earlier value a name of its own: `{name}` is the column it is made of.")
    if isinstance(by, bool) or not isinstance(by, int) or not 1 <= by < 2**31:
        raise ColumnError(f"A lag looks back by 1 or more steps, not {by!r}.")
    check_numeric(order, "lag")
    if in_parts(column.values, order.values):
        raise needs_all(
            "a lag, which looks at other rows,", "make the lagged column where the data come from, and read it"
        )
    if within is not None and not within.is_categorical:
        raise ColumnError(f"`{within.name}` is numeric; a lag goes within the levels of a group.")
    placed = order.present if within is None else order.present & within.present
    step = order.values[placed]
    if np.any(step != np.round(step)):
        raise ColumnError(
            f"`{order.name}` must count the steps in whole numbers; {short(float(step[step != np.round(step)][0]))} is none."
        )
    series = np.zeros(len(step), dtype=np.int64) if within is None else within.values[placed].astype(np.int64)
    first = int(step.min()) if len(step) else 0
    span = int(step.max()) - first + 1 + by if len(step) else 1
    key = series * span + (step.astype(np.int64) - first) + by
    rows = np.flatnonzero(placed)
    sorting = np.argsort(key, kind="stable")
    twice = np.flatnonzero(np.diff(key[sorting]) == 0)
    if len(twice):
        row = rows[sorting[twice[0]]]
        where = f" of `{within.levels[within.values[row]].label}`" if within is not None else ""
        raise ColumnError(
            f"`{order.name}` has two rows at {short(float(order.values[row]))}{where} ({count_noun(len(twice), 'such pair')}), so which "
            f"comes before is not known; {'keep one of them' if within is not None else 'say within which group the steps count'}."
        )
    sought = key - by
    at = np.searchsorted(key[sorting], sought)
    found = (at < len(key)) & (key[sorting][np.minimum(at, len(key) - 1)] == sought)
    source = np.full(len(column.values), -1, dtype=np.intp)
    source[rows[found]] = rows[sorting[at[found]]]
    there = source >= 0
    empty = -1 if column.is_categorical else np.nan
    values = np.where(there, column.values[source], empty).astype(column.values.dtype)
    begins = np.zeros(len(column.values), dtype=bool)
    earliest = np.full(int(series.max()) + 1 if len(series) else 1, np.iinfo(np.int64).max)
    np.minimum.at(earliest, series, step.astype(np.int64))
    begins[rows] = step.astype(np.int64) - by < earliest[series]
    gap = placed & ~there & ~begins
    new = Column(
        name,
        column.kind,
        values,
        levels=column.levels,
        base=column.base,
        label=f"{column.label or column.name}, {count_noun(by, 'step')} of {order.name} earlier",
        unit=column.unit,
        made=Made("lag", (column.name, order.name)),
    )
    reasons = {
        "start of a series": begins & ~there,
        "gap in the series": gap,
        "place in the series not known": ~placed,
        f"earlier `{column.name}` missing": there & ~column.present[source],
    }
    all_there = Column("", "numeric", np.zeros(len(values)))
    new = with_missing(new, all_there, reasons)
    lost = [f"{count_noun(int(m.sum()), 'row')}: {reason}" for reason, m in reasons.items() if m.any()]
    per = f" within `{within.name}`" if within is not None else ""
    text = f"Made `{name}`, `{column.name}` {count_noun(by, 'step')} of `{order.name}` earlier{per}: {new.valid:,} rows with a value"
    known = _taken_from(column, new, source, there, tuple(lost))
    return Recode(new, known, text + (f" ({'; '.join(lost)} left missing)." if lost else "."))


def _taken_from(
    column: Column, new: Column, source: NDArray[np.intp], there: NDArray[np.bool_], notes: tuple[str, ...]
) -> Check:
    """Verify that every earlier value is the value of the row it was taken from.

    Parameters
    ----------
    column, new : Column
        The column and its lag.
    source : ndarray of int, shape (rows,)
        The row each value was taken from, -1 for none.
    there : ndarray of bool, shape (rows,)
        Which rows have one.
    notes : tuple of str
        What was noticed.

    Returns
    -------
    Check
        A table of before and after, and whether all values agree.
    """
    taken, given = column.values[source[there]], new.values[there]
    same = bool(np.array_equal(taken, given, equal_nan=not column.is_categorical))
    check = before_and_after(column, new, notes) if not column.is_categorical else None
    table = check.table if check else before_and_after(_as_counts(column), _as_counts(new)).table
    return Check(new.name, column.name, table, same and not bool(np.any(new.present & ~there)), notes)


def _as_counts(column: Column) -> Column:
    return Column(column.name, "numeric", np.where(column.present, column.values, np.nan).astype(np.float64))
