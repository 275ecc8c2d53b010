"""Whether a group that was cut out of a numeric column leaves much of it out: what the column tells within the levels.

References
----------
MacCallum, Zhang, Preacher & Rucker (2002), Psychological Methods 7(1), 19-40, doi:10.1037/1082-989X.7.1.19.
"""

from __future__ import annotations

from typing import NamedTuple

from markbase.core.checks.straight_lines import CLEAR, MATTERS, MOST_ROWS
from markbase.core.design.terms import Term, single
from markbase.core.errors import FitError
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.changes import Change, change_between
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.rows.parts import in_parts


class LeftWithin(NamedTuple):
    """What a numeric column tells within the levels of a group that was cut out of it."""

    source: str
    """The name of the column."""
    change: Change
    """The test of the column, added to the model."""
    explains: float
    """What it explains of what the model leaves: of the sum of squared residuals, or of the deviance."""


def left_within(fit: AnyFit, term: Term) -> LeftWithin | None:
    """Return what the column that a group was cut out of tells within its levels, if that is clear (p < .001) and 2% or more of what the model leaves.

    None for a group that was not cut, one whose column is in the model, and where finding out would take long.
    """
    made = term.column.made
    if made is None or made.how != "cut" or not made.sources or fit.exact or fit.sample.rows > MOST_ROWS:
        return None
    (source,) = made.sources
    if (
        source.is_categorical
        or any(v.name == source.name for v in fit.variables)
        or in_parts(source.values, fit.outcome.values)
    ):
        return None
    more = _with_source(fit, single(source))
    if more is None:
        return None
    change = change_between(fit, more)
    left, then = (f.strength.deviance if isinstance(f, LogisticFit) else f.solution.residual for f in (fit, more))
    explains = 1 - then / left
    return LeftWithin(source.name, change, explains) if change.judged_p < CLEAR and explains >= MATTERS else None


def _with_source(fit: AnyFit, source: Term) -> AnyFit | None:
    """Fit the model with a numeric column more; None where the levels tell it exactly, or nothing can be estimated with it."""
    if isinstance(fit, LinearFit):
        (more,) = fit._with_each([source])
        return more if more is not None and more.rows_over >= 1 else None
    try:
        return fit._with_more([source])
    except FitError:
        return None
