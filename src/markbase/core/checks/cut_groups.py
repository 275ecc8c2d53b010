"""Whether a column is one thing where the model takes it for another: what a number tells within levels cut out of it, or where it is 0 apart from its line.

References
----------
MacCallum, Zhang, Preacher & Rucker (2002), Psychological Methods 7(1), 19-40, doi:10.1037/1082-989X.7.1.19.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from markbase.core.checks.one_more_term import with_each
from markbase.core.checks.some_rows import of_which_rows
from markbase.core.checks.straight_lines import CLEAR, MATTERS
from markbase.core.design.terms import Term, single
from markbase.core.errors import without_remarks
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.changes import Change, change_between
from markbase.core.results.logistic import LogisticFit
from markbase.core.study.column import Column

_FEWEST, _MOST = 0.1, 0.9
"""A value of so large a share of the rows is many, and leaves others."""


class LeftWithin(NamedTuple):
    """What a numeric column tells within the levels of a group that was cut out of it."""

    source: str
    """The name of the column."""
    change: Change
    """The test of the column, added to the model."""
    explains: float
    """What it explains of what the model leaves: of the sum of squared residuals, or of the deviance."""
    where: str
    """In which rows, after these figures; empty for all."""


@without_remarks()
def left_within(fit: AnyFit, term: Term) -> LeftWithin | None:
    """Return what the column that a group was cut out of tells within its levels, if that is clear (p < .001) and 2% or more of what the model leaves.

    None for a group that was not cut, and one whose column is in the model. Of very many rows some are looked at.
    """
    if term.column.made is None or term.column.made.how != "cut":
        return None
    whole, fit = fit, fit._on_some
    if fit is None or fit.exact:
        return None
    made = next(t.column.made for t in fit.model_terms if t.name == term.name)
    if made is None or not made.sources:
        return None
    (source,) = made.sources
    if source.is_categorical or any(v.name == source.name for v in fit.variables):
        return None
    (more,) = with_each(fit, [single(source)])
    if more is None:
        return None
    change, explains = _what_it_adds(fit, more)
    clear = change.judged_p < CLEAR and explains >= MATTERS
    return LeftWithin(source.name, change, explains, of_which_rows(fit, whole)) if clear else None


class NoneApart(NamedTuple):
    """That rows in which a numeric column is 0 lie apart from its line."""

    share: float
    """Their share of the rows."""
    change: Change
    """The test of whether it is 0, added to the model."""
    explains: float
    """What that explains of what the model leaves."""
    where: str
    """In which rows, after these figures; empty for all."""


@without_remarks()
def none_apart(fit: AnyFit, term: Term) -> NoneApart | None:
    """Return that rows in which a column is 0, its lowest value and that of many, lie apart from its line, if that is clear (p < .001) and tells 2% or more.

    Of very many rows some are looked at.
    """
    whole, fit = fit, fit._on_some
    if fit is None or fit.exact or term.column.two_values is not None or fit.rows_used.spread(term.name)[0] != 0:
        return None
    none = (term.column.values if fit is whole else fit.variable(term.name, "numeric").column.values) == 0
    share = float(np.mean(none if fit.used is None else none[fit.used]))
    if not _FEWEST <= share <= _MOST:
        return None
    (more,) = with_each(fit, [single(Column(f"{term.name} none", "numeric", none.astype(np.float64)))])
    if more is None:
        return None
    change, explains = _what_it_adds(fit, more)
    clear = change.judged_p < CLEAR and explains >= MATTERS
    return NoneApart(share, change, explains, of_which_rows(fit, whole)) if clear else None


def _what_it_adds(fit: AnyFit, more: AnyFit) -> tuple[Change, float]:
    left, then = (f.strength.deviance if isinstance(f, LogisticFit) else f.solution.residual for f in (fit, more))
    return change_between(fit, more), 1 - then / left
