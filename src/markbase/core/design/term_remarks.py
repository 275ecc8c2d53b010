"""What is remarked on in the columns of a model before anything is fitted."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

import numpy as np

from markbase.core.errors import count_noun, listed, quoted, remark
from markbase.core.formatting import short
from markbase.core.rows.row_functions import sum_of
from markbase.core.study.column import Column, kept
from markbase.core.study.cycles import told_of, way_round
from markbase.core.study.derived_values import can_follow
from markbase.core.study.group_remarks import (
    holds_dates,
    holds_times,
    levels_of_no_answer,
    levels_of_totals,
    separator_of_answers,
)
from markbase.core.study.marked_numbers import marks_on
from markbase.core.study.mixed_units import mixed_units
from markbase.core.study.numeric_remarks import (
    cycle_in,
    looks_like_identifier,
    stray_codes,
    where_codes_stand,
    whose_numbers,
)

_IN_ORDER = ("centre", "cube_root", "log", "log1p", "sqrt", "unit_range", "z")
"""What a column is that has the order of the one it was made of."""
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
        elif made.how == "product" and (one := _whose_square(columns, made.of)):
            remark(
                f"`{column.name}` is the cube of `{one}`, which is in the model too: they are read together, as a curve. A polynomial of `{one}` of degree 3 "
                f"says the same with its slopes and its turning points."
            )
        elif made.how == "level mean" and made.of[0] in columns:
            remark(
                f"`{column.name}` is the mean of `{made.of[0]}` in each level of `{made.of[1]}`, and `{made.of[0]}` is in the model too: its coefficient is by how much more, or less, "
                f"the levels differ than rows within them do (contextual effect, between less within), and that of `{made.of[0]}` is within."
            )
        elif made.how == "product" and len(sources) == len(made.of):
            remark(
                f"`{column.name}` is the product of {listed(quoted(sources))}: together they are an interaction; given as one, it is "
                f"probed and told as such."
            )


def _whose_square(columns: Mapping[str, Column], pair: Sequence[str]) -> str:
    """Return which of two columns of a model the other is the square of; empty for none."""
    for one, other in (pair, pair[::-1]):
        made = columns[other].made if one in columns and other in columns else None
        if made is not None and made.how == "square" and made.of == (one,):
            return one
    return ""


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


def odd_values(column: Column) -> list[str]:
    """Say that customary codes for a missing answer, numbers in two units, or numbers that count round, count as they stand in a column."""
    told = []
    codes = stray_codes(column)
    if codes:
        where = listed([f"{short(code)} in {count_noun(rows, 'row')}" for code, rows in codes])
        told.append(
            f"`{column.name}` is {where}, {where_codes_stand([code for code, _ in codes], 'apart')}: a code for a missing answer? It counts as a number here; declare it missing."
        )
    if mixed := mixed_units(column, [code for code, _ in codes]):
        told.append(f"`{column.name}` has {mixed} They count as they stand here.")
    if (cycle := cycle_in(column)) is not None:
        told.append(
            f"If `{column.name}` holds {cycle.what}, {told_of(column)} here, for a mean and for a slope: {way_round(cycle)}."
        )
    return told


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
    for told in _remarks_on(column):
        remark(told)


@kept
def _remarks_on(column: Column) -> tuple[str, ...]:
    told = []
    if column.guess and looks_like_identifier(column):
        told.append(
            f"`{column.name}` looks like an identifier (whole numbers, none of them twice); it is in the model as a numeric column. "
            f"If it is one, give it the role `identifier` or leave it out."
        )
    elif whose := whose_numbers(column):
        told.append(
            f"`{column.name}` looks like {whose}, which sort and do not measure, and is in the model as a numeric column: if it holds "
            "these, leave it out, declare it categorical, or let the errors be clustered by it."
        )
    told += odd_values(column)
    no_answer = [column.levels[k].label for k in levels_of_no_answer(column)]
    if no_answer:
        what = (
            "reads like a missing answer and counts as a level"
            if len(no_answer) == 1
            else "read like missing answers and count as levels"
        )
        told.append(
            f"`{column.name}`: {listed(quoted(no_answer))} {what}; blank {'it if it is one' if len(no_answer) == 1 else 'them if they are'}."
        )
    if totals := [column.levels[k].label for k in levels_of_totals(column)]:
        what = (
            "reads like the total of other rows, and counts as a level"
            if len(totals) == 1
            else "read like totals of other rows, and count as levels"
        )
        told.append(
            f"`{column.name}`: {listed(quoted(totals))} {what}; leave {'it' if len(totals) == 1 else 'them'} out if so."
        )
    if column.guess and holds_dates(column):
        told.append(
            f"`{column.name}` holds dates, which were taken for a group of {count_noun(len(np.flatnonzero(column.counts)), 'level')}; a model takes "
            f"a number made of them (a year, months or days since a day)."
        )
    if holds_times(column):
        told.append(
            f"`{column.name}` holds times of a clock, which were taken for a group of {count_noun(len(np.flatnonzero(column.counts)), 'level')}; a "
            f"model takes a number made of them (hours, minutes)."
        )
    if (separator := separator_of_answers(column)) is not None:
        told.append(
            f"`{column.name}` holds several answers in a cell (with `{separator}` between them), and every combination of them counts as a level; a "
            f"model takes a yes/no column of each answer (a multiple response)."
        )
    if marks := marks_on(column)[0]:
        told.append(
            f"`{column.name}` holds numbers with marks beside them ({listed(quoted(marks))}), and every writing of them counts as a level; a model takes "
            f"the numbers without."
        )
    elif column.doubt:
        told.append(f"`{column.name}` was taken for a group: {column.doubt}.")
    return tuple(told)
