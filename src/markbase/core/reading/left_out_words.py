"""A sentence about the rows that a fit left out."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.terms import Variable
from markbase.core.errors import count_noun, listed
from markbase.core.formatting import as_percent, p_phrase, short
from markbase.core.reading.clauses import difference_words, is_logged, outcome_words
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.logistic import LogisticFit

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


def terms_left_out(fit: AnyFit) -> list[str]:
    """Say which levels no row used has, and by which terms the rows left out are others than those used, a clause each."""
    groups = [v for v in fit.variables if v.is_categorical]
    told = [lost_words(v, lost) for v in groups if len(lost := lost_levels(v))]
    levels, numerics = fit._left_out_apart
    for apart in levels:
        words = [
            f"{as_percent(share)} of those with `{apart.variable.labels[k]}`"
            for k, share in zip((apart.most, apart.least), apart.shares, strict=True)
        ]
        told.append(f"{words[0]} of `{apart.variable.name}`, and {words[1]}")
    for column, rows, difference in numerics:
        size = abs(difference)
        told.append(
            f"in the {rows:,} of them with a value, `{column.name}` is on average {short(size)} {column.step_one if size == 1 else column.step_many} "
            f"{'higher' if difference > 0 else 'lower'} than in the rows used"
        )
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
