"""What goes with the outcome by construction: columns made of one another, in the preparing steps or, though nobody says so, in every row."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

import numpy as np

from markbase.core.design.shared import ROUNDING, Shared
from markbase.core.design.shared_ages import by_ages
from markbase.core.design.shared_order import by_order
from markbase.core.design.shared_parts import among_terms, by_parts
from markbase.core.design.shared_ratios import by_ratio
from markbase.core.errors import count_noun, listed, quoted, remark
from markbase.core.rows.row_functions import sample_of
from markbase.core.study.column import Column
from markbase.core.study.derived_values import made_of_same
from markbase.core.study.study import Study
from markbase.core.tables import rows_of

_MOST_OTHERS, _GLANCE, _FEWEST_ROWS = 500, 12, 10
"""Columns that are looked through, the rows of a first glance, and rows that tell."""


def remark_on_shared(
    study: Study, outcome: str, columns: Mapping[str, Column], weighed: bool = False
) -> tuple[Shared, ...]:
    """Say which columns of a model go with the outcome by construction; return what only the rows say of it.

    Of rows that are weighed nothing is said of how much each of them tells.
    """
    if outcome not in study:
        return ()
    target = study.column(outcome)
    numbers = [study[n] for n in study.columns if n != outcome and not study[n].is_categorical]
    others = [c for c in numbers if c.name not in columns]
    found = (
        *by_identity(target, columns.values(), others),
        *by_parts(target, columns.values(), numbers),
        *by_ratio(target, columns.values(), numbers, weighed),
        *by_order(target, columns.values()),
        *among_terms(columns.values(), numbers),
        *by_ages(columns.values(), numbers),
        *by_selection(study, target),
    )
    for told in (*by_construction(target, columns.values()), *(shared.text for shared in found)):
        remark(told)
    return found


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


def by_identity(outcome: Column, terms: Iterable[Column], others: Sequence[Column]) -> list[Shared]:
    """Say that an outcome is the change from a term to another column, or back, in every row, though nobody says that it was made so.

    An outcome with values below 0, which parts of a total do not have. More than 500 others are not looked through.
    """
    y: Any = outcome.values
    if outcome.is_categorical or not 0 < len(others) <= _MOST_OTHERS or not outcome.span[0] < 0 < outcome.span[1]:
        return []
    glance, told = np.flatnonzero(sample_of(outcome.present))[:_GLANCE], []
    first = np.array([sample_of(c.values)[glance] for c in others])
    for term in (t for t in terms if not t.is_categorical and t.made is None):
        x = term.values
        for sign, words, way, back in (
            (1, "`{other}` − `{term}`", "below", ""),
            (-1, "`{term}` − `{other}`", "above", ", of the other sign"),
        ):
            likely = ~_are_off(first, sample_of(x)[glance], sign * sample_of(y)[glance]).any(axis=1)
            for other in (others[int(k)] for k in np.flatnonzero(likely)):
                there = term.present & outcome.present & other.present
                far = _are_off(other.values[there], x[there], sign * y[there])
                if sample_of(far).any() or len(far) < _FEWEST_ROWS or far.any():
                    continue
                text = (
                    f"`{outcome.name}` is {words.format(other=other.name, term=term.name)} in every row, and `{term.name}` is in the model: the two go together by "
                    f"construction, with a slope {way} 0 by chance alone (regression to the mean). With `{other.name}` as the outcome the other terms "
                    f"have the same coefficients{back}."
                )
                told.append(Shared(term.name, text))
    return told


def _are_off(sums: Any, one: Any, other: Any) -> Any:
    """Return where numbers are further from the sum of two others than rounding leads; not where one is missing."""
    return np.abs(sums - (one + other)) > ROUNDING * (np.abs(one) + np.abs(other))


def by_selection(study: Study, outcome: Column) -> list[Shared]:
    """Say that a preparing step left rows out because of the outcome, or of a column made of it or behind it."""
    told = []
    for step in study.trail.steps:
        if step.action != "keep" or step.check is None or outcome.is_categorical:
            continue
        for (name, tests), row in zip(step.settings["conditions"].items(), rows_of(step.check.table), strict=True):
            if name not in study:
                continue
            column = study.column(name)
            if column.is_categorical or not row.fail or not _cuts(tests) or not made_of_same(outcome, column):
                continue
            what = "the outcome" if name == outcome.name else f"`{name}`, which goes with the outcome by construction"
            text = (
                f"{count_noun(row.fail, 'row')} {'was' if row.fail == 1 else 'were'} left out because of {what} (kept where {row.condition}). Rows chosen by the "
                f"outcome draw slopes and differences towards 0, the more the more are left out (selection on the outcome, truncation): what is told is about "
                f"such rows, not about all."
            )
            told.append(Shared("", text))
    return told


def _cuts(tests: object) -> bool:
    """Return whether tests of a number keep one side of it, or some values, and do not only leave some values out."""
    return not isinstance(tests, Mapping) or bool({"above", "among", "at_least", "at_most", "below", "is"} & set(tests))
