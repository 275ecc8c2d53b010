"""Whether the line of each numeric column is straight: its square, added to the model.

References
----------
Rao (1948), Proceedings of the Cambridge Philosophical Society 44(1), 50-57, doi:10.1017/S0305004100023987 (tests by scores).
Cohen (1988), Statistical Power Analysis for the Behavioral Sciences, 2nd ed., ch. 9 (2% of what is left: a small effect).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import NamedTuple

import numpy as np
import pandas as pd

from markbase.core.checks.some_rows import of_which_rows
from markbase.core.design.coefficient_map import components_of
from markbase.core.design.cross_products import gather
from markbase.core.design.drawn import DrawnBy
from markbase.core.design.terms import CodedColumns, Term, single
from markbase.core.errors import CollinearityError, FitError, without_remarks
from markbase.core.estimation.least_squares import solve
from markbase.core.estimation.least_squares_solution import Dependent
from markbase.core.inference.covariance import errors_of
from markbase.core.inference.distributions import p_of_f
from markbase.core.inference.standard_errors import Errors
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.changes import change_between
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.study.column import Column
from markbase.core.tables import records_of

_AT_ONCE = 16
"""So many squares are held in memory at a time."""
_COLUMNS = ["term", "statistic", "df_rest", "p", "bend", "explains"]
CLEAR, MATTERS = 1e-3, 0.02
"""Unasked, a bend is told that is as clear, and explains so much of what the model leaves."""
_MOST_COLUMNS = 64
"""Up to so many numeric columns are gone through for it."""


class Bend(NamedTuple):
    """A line that bends."""

    statistic: float
    """Of its square: F on 1 and `df_rest`, of a logistic fit chi-squared where that is NaN or infinite."""
    df_rest: float
    """Degrees of freedom that are left."""
    p: float
    """Its p."""
    bend: str
    """``upward`` or ``downward``."""
    explains: float
    """What the square explains of what the model leaves: of the sum of squared residuals, or of the deviance."""
    where: str
    """In which rows, after these figures; empty for all."""


@without_remarks()
def bends_of(fit: AnyFit, among: Sequence[Term] | None = None) -> pd.DataFrame:
    """Test the square of each numeric column, or of some of them, added to the model: by the test of the fit's errors, of a logistic one by the likelihood ratio where there is one.

    One with which the model cannot be estimated, as where it foretells the outcome, has no test, NaN; a column of two values has no
    square of its own.
    """
    if isinstance(fit, LogisticFit):
        tested = _straight(fit) if among is None else among
        return pd.DataFrame([r for term in tested if (r := _in_log_odds(fit, term))], columns=_COLUMNS)
    records, terms = [], _straight(fit) if among is None else among
    place = int(fit.moments.starts[len(fit.components) + 1])  # where the column of the square stands
    for some in (terms[k : k + _AT_ONCE] for k in range(0, len(terms), _AT_ONCE)):
        for term, more in zip(some, fit._with_each([squared(fit, t.name) for t in some]), strict=True):
            if more is None or more.rows_over < 1:
                continue  # two values only, its square is in the model already, or no row is left to tell it by
            own = np.flatnonzero(more.solution.columns == place)
            F = more.inner.columns(own).statistic
            bend = "upward" if more.solution.coefficients[own[0]] > 0 else "downward"
            explains = 1 - more.solution.residual / fit.solution.residual
            records.append([term.name, F, more.df_rest, float(p_of_f(F, 1, more.df_rest)), bend, explains])
    return pd.DataFrame(records, columns=_COLUMNS)


@without_remarks()
def bent_lines(fit: AnyFit) -> Mapping[str, Bend]:
    """Return the numeric columns whose line clearly bends, by so much that it matters, by name: of very many rows in some of them; nothing of an exact fit."""
    penalised = isinstance(fit, LogisticFit) and bool(fit.penalty)
    if fit.exact or penalised or not 0 < len(_straight(fit)) <= _MOST_COLUMNS:
        return {}
    whole, fit = fit, fit._on_some
    if fit is None or fit.exact:
        return {}
    terms = _straight(fit)
    if isinstance(fit, LinearFit):  # what a square explains costs no pass over the rows, as errors of other kinds do
        classical = fit.errors.middle is None
        plain = fit if classical else replace(fit, errors=Errors("classical", fit.rows_over), **DrawnBy()._asdict())
        lines = plain._bends
        names = set(lines.loc[lines["explains"] >= MATTERS, "term"])
        lines = lines if classical else bends_of(fit, [t for t in terms if t.name in names])
    else:
        lines = bends_of(fit, [t for t, gain in zip(terms, _scored(fit, terms), strict=True) if gain >= MATTERS / 2])
    where = of_which_rows(fit, whole)
    found = {
        r["term"]: Bend(r["statistic"], r["df_rest"], r["p"], r["bend"], r["explains"], where)
        for r in records_of(lines)
    }
    bent = {name: own for name, own in found.items() if own.p < CLEAR and own.explains >= MATTERS}
    if isinstance(fit, LinearFit) and fit.errors.middle is None:
        bent = {t.name: bent[t.name] for t in terms if t.name in bent and _by_robust_errors(fit, t) < CLEAR}
    return bent


def _by_robust_errors(fit: LinearFit, term: Term) -> float:
    """Return the p of the square of a column by robust errors (HC3): by classical ones it is often clear where only the spread grows."""
    (more,) = fit._with_each([squared(fit, term.name)])
    if more is None:
        return 1.0
    own = np.flatnonzero(more.solution.columns == int(more.moments.starts[len(fit.components) + 1]))
    blocks, fixed = more._blocks(more.model_terms), more.fixed_effects
    errors = errors_of("HC3", DrawnBy(), more.moments, blocks, more.solution, more.used, more.weights, fixed)
    test = replace(more, errors=errors).inner.columns(own)
    return float(p_of_f(test.statistic, 1, more.df_rest))


def _straight(fit: AnyFit) -> list[Term]:
    return [term for term in fit.model_terms if term.kind == "numeric"]


def squared(fit: AnyFit, name: str) -> Term:
    """Return the square of a numeric column of a fit, from its middle, as a term."""
    values = (fit.variable(name, "numeric").column.values - fit.rows_used.middle(name)) ** 2
    return single(Column(f"{name} squared", "numeric", values))


def _in_log_odds(fit: LogisticFit, term: Term) -> list[object] | None:
    """Return what `bends_of` tells of one column of a logistic fit; None of one whose square is in the model already."""
    try:
        more = fit._with_more([squared(fit, term.name)])
    except CollinearityError:
        return None
    except FitError:
        return [term.name, np.nan, np.nan, np.nan, "", np.nan]
    change = change_between(fit, more)
    (place,) = more.term_tests.beyond(fit.model_terms)
    bend = "upward" if more.solution.coefficients[place] > 0 else "downward"
    explains = 1 - more.strength.deviance / fit.strength.deviance
    return [term.name, change.statistic, change.df_rest, change.p, bend, explains]


def _scored(fit: LogisticFit, terms: Sequence[Term]) -> list[float]:
    """Return what a first step would gain of the deviance, as a share, if the square of each column were added: its score test; 0 where it cannot be added."""
    squares, curvature = [squared(fit, t.name) for t in terms], fit.passed.curvature
    curved = curvature > 0
    working = CodedColumns(1, multiplier=np.where(curved, fit.passed.score / np.where(curved, curvature, 1.0), 0.0))
    own = [c.coded() for c in components_of(fit.model_terms)]
    blocks = [*own, *(s.coded()[0] for s in squares), working]
    moments, gains = gather(blocks, fit.sample.rows, fit.used, curvature), []
    for k in range(len(own) + 1, len(own) + 1 + len(squares)):
        places = [*range(len(own) + 1), k, len(blocks)]
        alone, some = moments.only(places), [*own, blocks[k - 1], working]
        columns = np.append(fit.solution.columns, alone.starts[len(own) + 1])
        try:
            gain = solve(alone, some, fit.used, fit.sample.rows, columns, curvature, rough=True).explained
        except Dependent:
            gain = 0.0
        gains.append(gain / fit.strength.deviance)
    return gains
