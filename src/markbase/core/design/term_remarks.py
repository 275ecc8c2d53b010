"""What is remarked on in the columns of a model before anything is fitted."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import count_noun, listed, quoted, remark
from markbase.core.formatting import short
from markbase.core.rows.parts import in_parts
from markbase.core.rows.row_functions import sum_of
from markbase.core.study.column import Column
from markbase.core.study.derived_values import can_follow, made_of_same
from markbase.core.study.group_remarks import (
    holds_dates,
    holds_times,
    levels_of_no_answer,
    levels_of_totals,
    separator_of_answers,
)
from markbase.core.study.marked_numbers import marks_on
from markbase.core.study.numeric_remarks import looks_like_identifier, stray_codes, whose_numbers

_IN_ORDER = ("centre", "cube_root", "log", "log1p", "sqrt", "unit_range", "z")
"""What a column is that has the order of the one it was made of."""
_MOST_OTHERS, _GLANCE, _FEWEST_ROWS = 500, 12, 10
"""Columns that are looked through, the rows of a first glance, and rows that tell."""
_ROUNDING = 1e-9
"""Of two numbers' sizes: what their sum may be off by."""
_FLAGS = 3
"""So many 0/1 columns of which no row has two are taken for the indicators of one group."""


def remark_on_derived(columns: Mapping[str, Column]) -> None:
    """Propose a curve or an interaction for columns that were derived from others in the model."""
    for column in columns.values():
        made = column.made
        if made is None or not any(name in columns for name in made.of):
            continue
        sources = [name for name in made.of if name in columns]
        if made.how == "square":
            remark(
                f"`{column.name}` is the square of `{sources[0]}`, which is in the model too: the two are read together, as a curve. "
                f"A polynomial of `{sources[0]}` says the same with its slopes and its turning point."
            )
        elif made.how == "product" and len(sources) == len(made.of):
            remark(
                f"`{column.name}` is the product of {listed(quoted(sources))}: together they are an interaction; given as one, it is "
                f"probed and told as such."
            )


def by_construction(outcome: Column, columns: Iterable[Column]) -> list[str]:
    """Say which columns of a model go with the outcome because of how one of the two, or both, were made."""
    told = []
    for column in columns:
        shared = made_of_same(outcome, column)
        if not shared:
            continue
        how = f"`{outcome.name}` and `{column.name}` were both made of {listed(quoted(shared))}"
        if shared == [column.name]:
            how = f"The outcome `{outcome.name}` was made of `{column.name}`, which is in the model"
        elif shared == [outcome.name]:
            how = f"`{column.name}` was made of the outcome `{outcome.name}`"
        told.append(f"{how}: the two go together by construction, and in part that is what their figures say.")
    return told


def by_identity(outcome: Column, terms: Iterable[Column], others: Sequence[Column]) -> list[str]:
    """Say that an outcome is the change from a term to another column, or back, in every row, though nobody says that it was made so.

    An outcome with values below 0, which parts of a total do not have. Rows in parts, and more than 500 others, are not looked through.
    """
    y: Any = outcome.values
    if (
        outcome.is_categorical
        or not 0 < len(others) <= _MOST_OTHERS
        or in_parts(y)
        or not outcome.span[0] < 0 < outcome.span[1]
    ):
        return []
    glance, told = np.flatnonzero(outcome.present)[:_GLANCE], []
    first = np.array([c.values[glance] for c in others])
    for term in (t for t in terms if not t.is_categorical and t.made is None):
        x = term.values
        for sign, words, way, back in (
            (1, "`{other}` − `{term}`", "below", ""),
            (-1, "`{term}` − `{other}`", "above", ", of the other sign"),
        ):
            likely = ~_are_off(first, x[glance], sign * y[glance]).any(axis=1)
            for other in (others[int(k)] for k in np.flatnonzero(likely)):
                there = term.present & outcome.present & other.present
                far = _are_off(other.values[there], x[there], sign * y[there])
                if len(far) < _FEWEST_ROWS or far.any():
                    continue
                told.append(
                    f"`{outcome.name}` is {words.format(other=other.name, term=term.name)} in every row, and `{term.name}` is in the model: the two go together by "
                    f"construction, with a slope {way} 0 by chance alone (regression to the mean). With `{other.name}` as the outcome the other terms "
                    f"have the same coefficients{back}."
                )
    return told


def _are_off(sums: NDArray[np.float64], one: NDArray[np.float64], other: NDArray[np.float64]) -> NDArray[np.bool_]:
    """Return where numbers are further from the sum of two others than rounding leads; not where one is missing."""
    found: NDArray[np.bool_] = np.abs(sums - (one + other)) > _ROUNDING * (np.abs(one) + np.abs(other))
    return found


def _in_order_of(column: Column, source: str) -> bool:
    made = column.made
    return made is not None and made.of == (source,) and made.how in _IN_ORDER and can_follow(made)


def cut_from_terms(columns: Iterable[Column]) -> list[str]:
    """Say which groups of a model were cut out of a numeric column that is in it as well."""
    every, told = list(columns), []
    for group in every:
        if group.made is None or group.made.how != "cut":
            continue
        cut = group.made.of[0]
        beside = [c.name for c in every if c.name == cut or _in_order_of(c, cut)]
        if beside:
            names = listed(quoted(beside))
            told.append(
                f"`{group.name}` was cut out of `{group.made.of[0]}`, and {names} {'is' if len(beside) == 1 else 'are'} in the model too: with {names} held equal no "
                f"row has two of its levels. Its differences say where the line jumps, and its adjusted means go beyond the rows."
            )
    return told


def remark_on_codes(column: Column) -> None:
    """Say that customary codes for a missing answer count as numbers in a column of a model."""
    codes = stray_codes(column)
    if codes:
        told = listed([f"{short(code)} in {count_noun(rows, 'row')}" for code, rows in codes])
        remark(
            f"`{column.name}` is {told}, apart from all other values: a code for a missing answer? It counts as a number here; declare it missing."
        )


def remark_on_indicators(columns: Mapping[str, Column]) -> None:
    """Say that 0/1 columns of which no row has two are the indicators of one group, which enters as a whole or not at all."""
    flags = [c for c in columns.values() if not c.is_categorical and c.span == (0.0, 1.0) and c.two_values is not None]
    if len(flags) < _FLAGS:
        return
    together = sum_of([np.nan_to_num(c.values) for c in flags])
    if together.max() <= 1 and together.min() < 1:
        remark(
            f"{listed(quoted([c.name for c in flags]))} are 0 or 1 and never 1 together: they look like the indicators of one group. Declared as one "
            f"categorical column, it is tested as a whole, its base stands in the table, and no part of it can be dropped by itself."
        )


def remark_on_column(column: Column) -> None:
    """Say that a column of a model looks like an identifier, holds codes for missing answers, or was taken for a group in doubt."""
    if column.guess and looks_like_identifier(column):
        remark(
            f"`{column.name}` looks like an identifier (whole numbers, none of them twice); it is in the model as a numeric column. "
            f"If it is one, give it the role `identifier` or leave it out."
        )
    elif whose := whose_numbers(column):
        remark(
            f"`{column.name}` looks like the numbers of {whose}, which sort and do not measure, and is in the model as a numeric column: if it holds such "
            "numbers, leave it out, declare it categorical, or let the errors be clustered by it."
        )
    remark_on_codes(column)
    no_answer = [column.levels[k].label for k in levels_of_no_answer(column)]
    if no_answer:
        what = (
            "reads like a missing answer and counts as a level"
            if len(no_answer) == 1
            else "read like missing answers and count as levels"
        )
        remark(
            f"`{column.name}`: {listed(quoted(no_answer))} {what}; blank {'it if it is one' if len(no_answer) == 1 else 'them if they are'}."
        )
    if totals := [column.levels[k].label for k in levels_of_totals(column)]:
        what = (
            "reads like the total of other rows, and counts as a level"
            if len(totals) == 1
            else "read like totals of other rows, and count as levels"
        )
        remark(
            f"`{column.name}`: {listed(quoted(totals))} {what}; leave {'it' if len(totals) == 1 else 'them'} out if so."
        )
    if column.guess and holds_dates(column):
        remark(
            f"`{column.name}` holds dates, which were taken for a group of {count_noun(len(np.flatnonzero(column.counts)), 'level')}; a model takes "
            f"a number made of them (a year, days since a day)."
        )
    if holds_times(column):
        remark(
            f"`{column.name}` holds times of a clock, which were taken for a group of {count_noun(len(np.flatnonzero(column.counts)), 'level')}; a "
            f"model takes a number made of them (hours, minutes)."
        )
    if (separator := separator_of_answers(column)) is not None:
        remark(
            f"`{column.name}` holds several answers in a cell (with `{separator}` between them), and every combination of them counts as a level; a "
            f"model takes a yes/no column of each answer (a multiple response)."
        )
    if marks := marks_on(column)[0]:
        remark(
            f"`{column.name}` holds numbers with marks beside them ({listed(quoted(marks))}), and every writing of them counts as a level; a model takes "
            f"the numbers without."
        )
    elif column.doubt:
        remark(f"`{column.name}` was taken for a group: {column.doubt}.")
