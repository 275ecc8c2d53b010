"""What deserves a second look in a column, before anything is fitted."""

from __future__ import annotations

import difflib

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import count_noun, listed, quoted
from markbase.core.study.column import Column

THIN_ROWS = 30
"""A level with fewer rows than this is called thin: its interval will be wide."""
SKEWED = 1.0
"""An amount with a skew beyond this, either way, is called strongly skewed."""
FEW_VALUES = 12
"""Whole numbers with at most this many distinct values may be codes."""


def column_remarks(column: Column, total_of: tuple[str, ...] = ()) -> list[str]:
    """Say what deserves a second look in a column.

    Parameters
    ----------
    column : Column
        The column.
    total_of : tuple of str
        The parts of which it is the exact total, if it is one.

    Returns
    -------
    list of str
        Remarks in the order of their weight; empty when there is nothing to say.
    """
    remarks = [text for text in (column.fault, column.doubt) if text]
    if not column.valid:
        return [*remarks, "every row is missing", *column.notes]
    if column.role != "identifier":
        remarks += _group_remarks(column) if column.is_group else _amount_remarks(column)
    if total_of:
        words = f"equals {quoted(total_of)[0]}" if len(total_of) == 1 else f"exact total of {listed(quoted(total_of))}"
        remarks.append(words)
    return [*remarks, *column.notes]


def _amount_remarks(column: Column) -> list[str]:
    values = column.values[column.present]
    infinite = int(np.isinf(values).sum())
    if infinite:
        return [f"infinite in {count_noun(infinite, 'row')}"]
    if values.min() == values.max():
        return ["constant: one value in every row"]
    remarks = []
    distinct = len(np.unique(values))
    if looks_like_identifier(column):
        remarks.append("looks like an identifier: whole numbers, none of them twice")
    elif looks_coded(column):
        remarks.append(f"digits that look like codes: {distinct} whole numbers; if they are, declare it a group")
    skew = skewness(values)
    if abs(skew) > SKEWED and distinct > 2:
        remarks.append(
            f"strongly skewed ({skew:+.1f}): {'a long tail of high' if skew > 0 else 'a long tail of low'} values"
        )
    return remarks


def looks_coded(column: Column) -> bool:
    """Return whether a column guessed to be an amount holds so few whole numbers that they may be codes."""
    if column.is_group or not column.guess or not column.valid:
        return False
    values = column.values[column.present]
    if not np.array_equal(values[:100], np.round(values[:100])):  # spares most amounts the full look
        return False
    return bool(np.all(values == np.round(values))) and len(np.unique(values)) <= FEW_VALUES


def looks_like_identifier(column: Column) -> bool:
    """Return whether an amount holds whole numbers of which none occurs twice."""
    if column.is_group or column.valid <= FEW_VALUES:
        return False
    values = column.values[column.present]
    if not np.array_equal(values[:100], np.round(values[:100])):
        return False
    return bool(np.all(values == np.round(values))) and len(np.unique(values)) == len(values)


def _group_remarks(column: Column) -> list[str]:
    counts = column.counts
    here = np.flatnonzero(counts)
    remarks = []
    undeclared = [k for k in here if not column.levels[k].declared]
    declared = [level.label for level in column.levels if level.declared]
    for k in undeclared[:4]:
        label = column.levels[k].label
        close = difflib.get_close_matches(label.casefold(), [d.casefold() for d in declared], 1, 0.7)
        meant = next((d for d in declared if close and d.casefold() == close[0]), "")
        words = f"undeclared level `{label}` in {count_noun(int(counts[k]), 'row')}"
        remarks.append(f"{words}: misspelt for `{meant}`?" if meant else words)
    if len(undeclared) > 4:
        remarks.append(f"{len(undeclared) - 4} more undeclared levels")
    if len(here) == 1:
        remarks.append(f"constant: every row is `{column.levels[here[0]].label}`")
    if column.guess and len(here) > max(FEW_VALUES, 0.9 * column.valid):
        return [*remarks, "looks like an identifier: hardly a value occurs twice"]
    thin = [k for k in here if counts[k] < THIN_ROWS and column.levels[k].declared]
    if thin:
        shown = [f"`{column.levels[k].label}` ({counts[k]})" for k in thin[:4]]
        more = f" and {len(thin) - 4} more" if len(thin) > 4 else ""
        remarks.append(f"thin level{'s' if len(thin) > 1 else ''}: {', '.join(shown)}{more}")
    unused = [level.label for level, n in zip(column.levels, counts, strict=True) if n == 0]
    if unused:
        remarks.append(f"no row is {listed(quoted(unused[:4]), 'or')}")
    return remarks


def skewness(values: NDArray[np.float64]) -> float:
    """Return the moment coefficient of skewness, m3 / m2^1.5.

    Parameters
    ----------
    values : ndarray, shape (rows,)
        Finite numbers that are not all the same.

    Returns
    -------
    float
        0 for a symmetric spread, positive for a tail of high values.
    """
    deviation = values - values.mean()
    deviation = deviation / np.abs(deviation).max()
    return float(np.mean(deviation**3) / np.mean(deviation**2) ** 1.5)
