"""A sentence about the rows that a fit left out."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.terms import Variable
from markbase.core.errors import count_noun, listed
from markbase.core.formatting import as_percent, p_phrase
from markbase.core.reading.clauses import difference_words, is_logged, outcome_words
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.study.remark import THIN_ROWS

_APART = 0.2
"""Shares of rows left out that are so far apart between levels are told."""
_MOST_NAMED = 4
"""Levels without a row that are named."""


def left_out_words(fit: AnyFit) -> str:
    """Say whether the outcome is another in the rows left out than in those used; empty where nothing can be said."""
    if fit.left_out is None:
        return ""
    verdict = (
        "they differ in it, so what holds of the rows used need not hold of all"
        if fit.left_out.p < fit.alpha
        else "no clear evidence that they differ in it"
    )
    return f"in the {left_out_figures(fit)}: {verdict}"


def lost_levels(variable: Variable) -> NDArray[np.intp]:
    """Return the places, among the levels of its column, of those that rows of the study have, and none of the rows used."""
    lost = np.asarray(variable.column.counts) > 0
    lost[variable.places] = False
    return np.flatnonzero(lost)


def lost_sentences(variable: Variable) -> list[str]:
    """Say the same as a sentence, none if every level has a row used."""
    lost = lost_levels(variable)
    return [f"N{lost_words(variable, lost)[1:]}."] if len(lost) else []


def lost_words(variable: Variable, lost: NDArray[np.intp]) -> str:
    """Say that no row used has some levels of a group."""
    column, it = variable.column, "it" if len(lost) == 1 else "them"
    rows = [
        f"none of the {column.counts[k]:,} rows with `{column.levels[k].label}`"
        if column.counts[k] > 1
        else f"no row with `{column.levels[k].label}` (there is 1)"
        for k in lost[:_MOST_NAMED]
    ]
    if len(lost) > _MOST_NAMED:
        rows.append(f"none of those with {count_noun(len(lost) - _MOST_NAMED, 'other level')}")
    return f"{listed(rows)} of `{column.name}` is among the rows used: nothing is told of {it}"


def levels_left_out(fit: AnyFit) -> list[str]:
    """Say which levels no row used has, and of which levels many more rows were left out than of others, a clause a group."""
    told = []
    for variable in (v for v in fit.variables if v.is_categorical):
        column = variable.column
        lost = lost_levels(variable)
        if len(lost):
            told.append(lost_words(variable, lost))
        if fit.rows_used.times is not None:
            continue
        before = column.counts[variable.places]
        left = 1 - fit.rows_used.counts_at((variable.name,)) / before
        most, least = (int(k) for k in (np.argmax(left), np.argmin(left)))
        if left[most] - left[least] >= _APART and min(before[most], before[least]) >= THIN_ROWS:
            words = [f"{as_percent(left[k])} of those with `{variable.labels[k]}`" for k in (most, least)]
            told.append(f"{words[0]} of `{column.name}`, and {words[1]}")
    return told


def left_out_figures(fit: AnyFit, verb: str = "is") -> str:
    """Say how much another the outcome is in the rows left out; empty where nothing can be said."""
    found = fit.left_out
    if found is None:
        return ""
    if isinstance(fit, LogisticFit):
        what, average = f"the share of `{fit.outcome.name}` = `{fit.event}`", ""
    else:
        what, average = outcome_words(fit.outcome), "" if is_logged(fit.outcome) else "on average "
    size, ends = difference_words(fit, found.difference, found.low, found.high, found.se)
    than = "as" if size.endswith("as high") else "than"  # many times as high, and not so many percent higher
    alike = ", each counted once" if fit.weights else ""
    return f"{found.rows:,} of them with a value{alike}, {what} {verb} {average}{size} {than} in the rows used ({ends}, {p_phrase(found.p)})"
