"""Checking what terms are wanted, and finding the columns they are made of."""

from __future__ import annotations

import itertools
import re
from collections import Counter
from collections.abc import Mapping, Sequence

import numpy as np

from markbase.core.design.found_derived import as_derived
from markbase.core.design.requested_terms import (
    AllBut,
    Interaction,
    Polynomial,
    TermRequest,
    degrees_of,
    read_term,
    request_name,
    request_of,
    term_name,
    term_text,
)
from markbase.core.design.shared_sources import remark_on_shared
from markbase.core.design.term_remarks import (
    cut_from_terms,
    odd_values,
    remark_on_column,
    remark_on_derived,
    remark_on_indicators,
)
from markbase.core.errors import ColumnError, FitError, MarkbaseError, listed, quoted, remark
from markbase.core.rows.row_functions import first_true
from markbase.core.study.column import Column
from markbase.core.study.marked_numbers import marks_on
from markbase.core.study.study import Study

_NUMBER = re.compile(r"-?\d+([.,]\d+)?")


def outcome_column(study: Study, name: str) -> Column:
    """Return the outcome of a linear model, numeric and usable, or refuse it with a `ColumnError`."""
    column = study.column(name)
    if column.is_categorical and column.doubt:
        raise ColumnError(f"The outcome `{name}` cannot be taken as a numeric column: {column.doubt}.")
    if marks := marks_on(column)[0]:
        raise ColumnError(
            f"The outcome `{name}` holds numbers with marks beside them ({listed(quoted(marks))}), and a linear regression needs the numbers: take "
            f"the marks off."
        )
    if column.is_categorical:
        levels = [column.levels[k].label for k in np.flatnonzero(column.counts)]
        if len(levels) == 2:
            way = f"one of two levels is for a logistic regression, of the event `{levels[0]}` or `{levels[1]}`"
        elif all(_NUMBER.fullmatch(column.levels[k].code) for k in np.flatnonzero(column.counts)):
            way = "if its levels are numbers that measure, declare it numeric"
        else:
            way = (
                "answers in an order can be given numbers (`as_numeric` with `scores`), where their steps may count as equal, or be split in two for a "
                "logistic regression"
            )
        raise ColumnError(
            f"The outcome `{name}` is categorical of {len(levels)} levels, and a linear regression needs a numeric column; {way}."
        )
    check_usable(column)
    for told in odd_values(column):
        remark(told)
    return column


LARGEST = 1e100
"""The largest value that is computed with: its products with others can still be written."""
MAIN_EFFECTS = ("add", "refuse")
"""What is done where an interaction comes without the terms it is made of."""


def requested_terms(
    study: Study, requests: Sequence[TermRequest] | AllBut, outcome: str, main_effects: str = "add"
) -> tuple[list[TermRequest], dict[str, Column]]:
    """Return what terms are wanted, in the order given, and every column they are made of, checked.

    Identifiers are left out; lower terms that an interaction lacks are put in front of it (`main_effects` is ``add``) or it
    is refused (``refuse``). Remarks on each identifier left out, each numeric column that looks like one, each term added,
    and columns that were derived from others in the model. Raises a `ColumnError` for a column that cannot be used, a
    `FitError` for no term at all, one given twice, or called as another, or a lower term that cannot be added.
    """
    if main_effects not in MAIN_EFFECTS:
        raise MarkbaseError(
            f"Main effects that are lacking are added (`add`) or refused (`refuse`), not {main_effects!r}."
        )
    if isinstance(requests, AllBut):
        requests = requests.chosen(study, outcome)
    if isinstance(requests, (str, Polynomial, Interaction)):
        raise FitError(f"Give the terms as a list of column names, for instance [{requests!r}], not as one text.")
    if not requests:
        raise FitError("Give at least one term: the name of a column to explain the outcome with.")
    wanted: list[TermRequest] = []
    columns: dict[str, Column] = {}
    for request in requests:
        if not isinstance(request, (str, Polynomial, Interaction)):
            raise FitError(f"A term is a column name, a polynomial or an interaction, not {request!r}.")
        request = read_term(request, study.columns)
        if isinstance(request, str) and request not in study:
            _refuse_arithmetic(request, study)
        degrees = degrees_of(request)
        found = [study.column(name) for name in degrees]
        _check_once(degrees, wanted)
        for column, degree in zip(found, degrees.values(), strict=True):
            if column.name == outcome:
                raise ColumnError(
                    f"`{outcome}` is the outcome and cannot be a term as well; leave it out of the terms."
                )
            if degree > 1 and column.is_categorical:
                raise ColumnError(
                    f"`{column.name}` is categorical, so it has no powers; a polynomial is of a numeric column."
                )
        if isinstance(request, str) and found[0].role == "identifier":
            remark(f"`{request}` is an identifier and says nothing about the outcome: left out of the model.")
            continue
        for column in found:
            if column.name not in columns:
                check_usable(column)
                remark_on_column(column)
                columns[column.name] = column
        wanted.append(request)
    if not wanted:
        raise FitError("Only identifiers were given as terms, so there is nothing to fit; add a column that measures.")
    wanted = _with_lower_terms(wanted, main_effects)
    called = Counter(request_name(request) for request in wanted)
    if len(called) < len(wanted):
        raise FitError(
            f"`{called.most_common(1)[0][0]}` is a column, and what a product or a curve of other columns is called: give the column another name where it comes from."
        )
    for told in cut_from_terms(columns.values()):
        remark(told)
    if repeats := study._repeats:
        remark(
            f"{repeats.text} Each counts as a case of its own here; the preparing step `leave_out_repeats` leaves them out."
        )
    columns = as_derived(columns)
    remark_on_derived(columns)
    remark_on_indicators(columns)
    return wanted, columns


def _refuse_arithmetic(request: str, study: Study) -> None:
    """Say what asks for a term that was written as one would on paper: a product, a power, a function of a column."""
    factors = [part.strip() for part in re.split(r"[*·×:]| x ", request)]
    if 1 < len(factors) <= 3 and all(name in study for name in factors):
        raise ColumnError(
            f"`{request}` is no column: a product of {listed(quoted(factors))} is an interaction, a term of its own: "
            f"{term_text('interaction', *factors)}."
        )
    for summands in ([part.strip() for part in request.split("+")], request.split()):
        if len(summands) > 1 and all(name in study for name in summands):
            raise ColumnError(f"`{request}` is no column: give {listed(quoted(summands))} as terms of their own.")
    power = re.fullmatch(r"(.+?)\s*(?:\^\s*([23])|([²³]))", request)
    if power and power[1] in study:
        degree = power[2] or ("2" if power[3] == "²" else "3")
        raise ColumnError(
            f"`{request}` is no column: powers of `{power[1]}` are a polynomial, a term of its own: {term_text('polynomial', power[1], degree)}."
        )
    inside = re.fullmatch(r"\w+\((.+)\)", request)
    if inside and (name := inside[1].strip()) in study:
        way = (
            f"`{name}` is categorical as it is, so give that name"
            if study.column(name).is_categorical
            else f"a term is the name of one, so make a column of `{name}` first, in a preparing step"
        )
        raise ColumnError(f"`{request}` is no column: {way}.")


def _check_once(degrees: Mapping[str, int], wanted: Sequence[TermRequest]) -> None:
    """Refuse a term of the same columns as one that is there already."""
    for other in wanted:
        there = degrees_of(other)
        if set(there) != set(degrees):
            continue
        if dict(there) == dict(degrees):
            raise FitError(f"The term `{term_name(degrees)}` is given twice; give it once.")
        more, less = (there, degrees) if sum(there.values()) > sum(degrees.values()) else (degrees, there)
        raise FitError(f"`{term_name(more)}` contains `{term_name(less)}` already; leave the latter out of the terms.")


def lower_terms(degrees: Mapping[str, int]) -> list[dict[str, int]]:
    """Return the terms that an interaction is made of, main effects first, each with its highest powers."""
    names = list(degrees)
    return [
        {name: degrees[name] for name in some}
        for count in range(1, len(names))
        for some in itertools.combinations(names, count)
    ]


def _with_lower_terms(wanted: Sequence[TermRequest], main_effects: str) -> list[TermRequest]:
    """Put lower terms that interactions lack in front of them."""
    known = [degrees_of(request) for request in wanted]
    complete: list[TermRequest] = []
    for request in wanted:
        lacking = []
        for lower in lower_terms(degrees_of(request)):
            alike = [d for d in known if set(d) == set(lower)]
            if any(d[name] < degree for d in alike for name, degree in lower.items()):
                raise FitError(
                    f"`{request_name(request)}` needs `{term_name(lower)}`, and the model has `{term_name(alike[0])}` only; "
                    f"give the polynomial as a term as well."
                )
            if not alike:
                lacking.append(lower)
                known.append(lower)
        if lacking:
            names = listed(quoted(term_name(d) for d in lacking))
            if main_effects == "refuse":
                raise FitError(
                    f"`{request_name(request)}` is in the model without {names}: what it says then mixes the two. Add "
                    f"{'it' if len(lacking) == 1 else 'them'} to the terms."
                )
            one = len(lacking) == 1
            remark(
                f"`{request_name(request)}` came without {names}: {'it was' if one else 'they were'} added, since an interaction is read beside its lower terms."
            )
        complete += [*(request_of(d) for d in lacking), request]
    return complete


def single_columns(study: Study, requests: Sequence[TermRequest] | AllBut, outcome: str) -> list[Column]:
    """Return the columns of terms that are single columns, checked as `requested_terms` does.

    Raises
    ------
    FitError
        If a polynomial or an interaction is among them, and as `requested_terms`.
    """
    if not isinstance(requests, (AllBut, str)):
        for request in (read_term(r, study.columns) for r in requests):
            if not isinstance(request, str):
                name = request_name(request) if isinstance(request, (Polynomial, Interaction)) else repr(request)
                raise FitError(f"`{name}` is no single column; screen the columns it is made of.")
    columns = requested_terms(study, requests, outcome)[1]
    remark_on_shared(study, outcome, columns, weighed=True)
    return list(columns.values())


def check_usable(column: Column) -> None:
    """Refuse a column with a fault, with infinite values, or with values that no square of can be written; and one that is called as the start of a model is."""
    if column.fault:
        raise ColumnError(column.fault)
    if column.name == "(intercept)":
        raise ColumnError(
            "A column is called `(intercept)`, as the number that every equation starts from is: a model has that by itself. Leave the column out, or "
            "give it another name where it comes from."
        )
    if column.is_categorical:
        return
    low, high = column.span
    if np.isinf(column.span).any():
        infinite = np.isinf(column.values)
        raise ColumnError(
            f"`{column.name}` is infinite in {np.count_nonzero(infinite):,} of {len(column.values):,} rows (first in row "
            f"{first_true(infinite) + 1}); mend those values or declare them missing."
        )
    if max(abs(low), abs(high)) > LARGEST:
        far = first_true(np.abs(column.values) > LARGEST)
        raise ColumnError(
            f"`{column.name}` is {column.values[far]:g} in row {far + 1}, beyond the {LARGEST:g} that can be computed with; divide the "
            f"column by a power of ten, or blank such values."
        )
    if 0 < high - low < 1 / LARGEST:
        raise ColumnError(
            f"`{column.name}` spans no more than {high - low:g}, which is too little to compute with; multiply the column by a power of ten."
        )
