"""How the outcome lies within the levels of a column whose rows may go together, where that was made so: what these rows can then say."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.outcome_in_levels import histories, same_mean
from markbase.core.design.repeated_rows import codes_of, same_within
from markbase.core.errors import count_noun
from markbase.core.formatting import as_percent, short
from markbase.core.reading.clauses import is_share
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.rows.parts import in_parts
from markbase.core.rows.row_functions import counted, sample_of

_FEWEST_LEVELS, _GLANCE = 5, 2000
"""Fewer levels may have one outcome each by chance; rows that are looked at before all are."""


def about_levels(fit: AnyFit) -> list[str]:
    """Say of the first such column that the outcome has one value in each level, or the same mean, or is an event that ends it; a list of none or one."""
    inside = fit.rows_used.inside
    for column in (fit.cluster, fit.possible_cluster, *fit.repeating):
        if column is None or (in_parts(column.values) and not column.is_categorical):
            continue
        codes = codes_of(column, slice(None))[inside]
        told = _one_value(fit, column.name, codes)
        if not told and not in_parts(codes):
            told = _same_mean(fit, column.name, codes) or _history(fit, column.name, codes)
        if told:
            return [told]
    return []


def _one_value(fit: AnyFit, name: str, codes: NDArray[np.intp]) -> str:
    values = fit.outcome.values[fit.rows_used.inside]
    if not same_within(sample_of(values)[:_GLANCE], sample_of(codes)[:_GLANCE]) or not same_within(values, codes):
        return ""
    levels = int(np.count_nonzero(counted(codes, int(codes.max()) + 1)))
    if not _FEWEST_LEVELS <= levels <= len(codes) / 2:
        return ""
    return (
        f"`{fit.outcome.name}` has one value for each `{name}`: these {len(codes):,} rows hold {levels:,} outcomes. Slopes and differences of what "
        f"varies within a `{name}` are drawn towards 0 by that: one row for each, with the means of the terms, says what these outcomes can say."
    )


def _same_mean(fit: AnyFit, name: str, codes: NDArray[np.intp]) -> str:
    mean = None
    if name not in fit.fixed_effect_names and fit.weights is None:
        mean = same_mean(fit.observed_numbers[fit.rows_used.inside], codes)
    if mean is None:
        return ""
    has = f"has the mean {short(mean, 4)}"
    if _labels(fit):
        has = f"is `{_labels(fit)[1]}` in {as_percent(mean)} of rows"
    return (
        f"`{fit.outcome.name}` {has} in each `{name}`: it was made so, and between them there is nothing to tell. What is the same in all rows of one "
        f"`{name}` cannot go with it here, whatever it does elsewhere; of what varies within them, a column centred within `{name}` tells all there is."
    )


def _history(fit: AnyFit, name: str, codes: NDArray[np.intp]) -> str:
    if not _labels(fit):
        return ""
    found = histories(fit.observed_numbers[fit.rows_used.inside], codes)
    if found is None:
        return ""
    return (
        f"`{fit.outcome.name}` = `{_labels(fit)[int(found.event)]}` stands in the last row of a `{name}` alone (in {found.ended:,} of "
        f"{count_noun(found.levels, 'level')}): the rows of an event history in discrete time. Its odds in one of them are those among who it has not happened to before "
        f"(hazard); for this such rows count as independent, and what tells the time belongs among the terms."
    )


def _labels(fit: AnyFit) -> tuple[str, ...]:
    """Return what 0 and 1 of the outcome are called; empty where it is no such thing."""
    if isinstance(fit, LogisticFit):
        return fit.otherwise, fit.event
    return ("0", "1") if is_share(fit.outcome) else ()
