"""What must be known of an outcome before its means are compared: its scale, its few values, its ends, what it has in common with the terms."""

from __future__ import annotations

from typing import Any

import numpy as np

from markbase.core.checks.began_apart import began_apart
from markbase.core.checks.few_far_rows import few_far_rows, where_they_are
from markbase.core.design.shared_sources import by_construction
from markbase.core.design.term_remarks import odd_values
from markbase.core.formatting import as_percent, decimals_for, number, plain, short
from markbase.core.reading.clauses import interval_words, is_share
from markbase.core.reading.outcome_levels import about_levels
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.coefficient_rows import label_of
from markbase.core.results.linear import LinearFit
from markbase.core.rows.row_functions import some_of
from markbase.core.study.column import Column

_POWERS = {
    "sqrt": "the square root",
    "cube_root": "the cube root",
    "square": "the square",
    "reciprocal": "the reciprocal",
}
_MUCH = 0.15
"""A share of rows at one end of a scale from which on it is told (Terwee et al. 2007, doi:10.1016/j.jclinepi.2006.03.012)."""
_BEYOND = 0.01
"""A share of rows with fitted values beyond the ends of the outcome from which on it is told."""
_ENDS = ("lowest", "below", "floor"), ("highest", "above", "ceiling")
_MANY = 10
"""Of so few values each has many rows, at the ends as well."""


def about_outcome(fit: AnyFit) -> list[str]:
    """Say what must be known of the outcome of a linear fit."""
    told, outcome = odd_values(fit.outcome), fit.outcome
    if is_share(outcome):
        outside = sum(fit._passing)
        how_many = f"{as_percent(outside)} of the fitted values do" if outside else "no fitted value of these rows does"
        way = ": use robust errors, or a logistic regression of its odds"
        if fit.errors.kind != "classical":
            way = ", which these errors allow for; a logistic regression is of its odds, which have no such ends"
        told.append(
            f"`{outcome.name}` is 0 or 1, so its mean is the share of rows with 1, told in percentage points. A straight line can leave the range "
            f"from 0 to 100% ({how_many}), and the spread differs from row to row by itself{way}."
        )
    elif (pair := outcome.two_values) is not None and outcome.made is None:
        told.append(
            f"`{outcome.name}` is {plain(pair[0])} or {plain(pair[1])} and nothing between: its mean tells the share of rows with {plain(pair[1])}, as {plain(pair[0])} and "
            f"{short(pair[1] - pair[0])} times that share. As 0 and 1 it is told in percentage points; a logistic regression is of its odds."
        )
    told += about_scale(outcome)
    if answers := outcome.few_whole:
        told.append(
            f"`{outcome.name}` has {len(answers)} values, {plain(answers[0])} to {plain(answers[-1])}: a mean does not say which of them are more "
            "frequent, and where they are answers and no counts, it takes the steps between them to be equally large."
        )
    told += _about_few_far_rows(fit)
    return told + _about_ends(fit) + ([] if is_share(outcome) else _about_passing(fit))


def _about_few_far_rows(fit: AnyFit) -> list[str]:
    """Say that a few rows hold half of the squared residuals."""
    if not isinstance(fit, LinearFit) or (found := few_far_rows(fit)) is None:
        return []
    may_be_logged = found.above and fit.outcome.made is None and fit.outcome.span[0] > 0
    way = f"; if so, `{fit.outcome.name}` may be one to be told in its logarithm" if may_be_logged else ""
    return [
        f"Half of the squared residuals is in {where_they_are(fit, found)}: estimates may follow these, intervals are as wide as they make them, and what "
        f"the others say may not show. See whether they are right{way}."
    ]


def about_scale(outcome: Column) -> list[str]:
    """Say what one unit of an outcome is that was transformed or rescaled."""
    made = outcome.made
    if made is None or not made.of:
        return []
    name, source = outcome.name, made.of[0]
    if made.how in _POWERS:
        lower = f" Of values above 0, a higher `{name}` is a lower `{source}`." if made.how == "reciprocal" else ""
        return [
            f"`{name}` is {_POWERS[made.how]} of `{source}`: estimates are differences in that, which are not the same everywhere in `{source}` itself.{lower}"
        ]
    if made.how in ("z", "unit_range") and made.parameters:
        step = short(made.parameters[1])
        unit = made.sources[0].step_one if step == "1" else made.sources[0].step_many
        what = "A standard deviation" if made.how == "z" else "The whole range"
        return [f"{what} of `{source}`, of which `{name}` was made, is {step} {unit}."]
    return []


def _about_ends(fit: AnyFit) -> list[str]:
    """Say that many rows have the lowest or the highest value of an outcome of many values."""
    values = fit.outcome.values[fit.rows_used.inside]
    some = some_of(values)
    if len(np.unique(some[:1000])) <= _MANY or max(_shares_at_ends(some)) < _MUCH / 2:
        return []
    often = fit.rows_used.times
    shares = _shares_at_ends(values, None if often is None else often[fit.rows_used.inside])
    told = []
    for share, end, (which, beyond, effect) in zip(shares, (values.min(), values.max()), _ENDS, strict=True):
        if share < _MUCH:
            continue
        words = (
            f"{as_percent(share)} of the rows have the {which} value of `{fit.outcome.name}`, {plain(float(end))} (a {effect} effect). If a scale "
            f"ends there, differences {beyond} it do not show, and means near it differ by less than on a longer one; a straight line can lead beyond it."
        )
        if end == 0 and which == "lowest":
            words += " If 0 is none at all, whether there is any and how much there is are two questions: a yes/no outcome, and the rows above 0."
        told.append(words)
    return told


def _about_passing(fit: AnyFit) -> list[str]:
    """Say that many fitted values lie beyond the ends of the outcome."""
    sides = zip(fit._passing, fit._ends[:2], ("below", "above"), ("lower", "higher"), strict=True)
    return [
        f"The fitted value is {beyond} {plain(end)} in {as_percent(share)} of the rows, {word} than `{fit.outcome.name}` is in any of them: a straight "
        "line knows no such end."
        for share, end, beyond, word in sides
        if share >= _BEYOND
    ]


def _shares_at_ends(values: Any, often: Any = None) -> list[float]:
    """Return the shares of rows that have the lowest and the highest value; each row counts as often as it stands for."""
    count = len(values) if often is None else often.sum()
    ends = [values == values.min(), values == values.max()]
    return [float((end if often is None else end * often).sum() / count) for end in ends]


def from_sources(fit: AnyFit) -> list[str]:
    """Say which columns of the model go with the outcome by construction, which rows were left out because of it, and in which it is repeated."""
    columns = [v.column for v in fit.variables]
    names = {"", *(column.name for column in columns)}
    shared = [shared.text for shared in fit.shared if shared.column in names]
    return [*by_construction(fit.outcome, columns), *shared, *about_levels(fit), *about_beginning(fit)]


def about_beginning(fit: AnyFit, term: str = "") -> list[str]:
    """Say of a change which coefficient, of one term or any, is another beside what it began from."""
    found = began_apart(fit, term) if isinstance(fit, LinearFit) else None
    if found is None:
        return []
    row, beside, name = found.without, found.beside, found.beginning.column.name
    decimals = decimals_for(float(row["se"]))
    before, after, low, high = (
        number(float(v), decimals) for v in (row["estimate"], beside["estimate"], beside["low"], beside["high"])
    )
    against = f" against `{found.base}`" if found.base else ""
    told = (
        f"`{fit.outcome.name}` is {found.beginning.words} in every row, and what is compared here began apart: beside `{name}`, `{label_of(row['term'], row['level'])}`{against} "
        f"is {after} ({interval_words(fit, beside, f'{low} to {high}')}{found.where}), not {before}."
    )
    if found.falls_back:
        told += (
            " Who began high fell back, and who began low rose, as they do by chance alone (regression to the mean)."
        )
    return [f"{told} Which of the two answers a question depends on why they began apart (Lord's paradox)."]
