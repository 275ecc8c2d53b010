"""Whether a term goes with the outcome within clusters as it does between them: one coefficient mixes the two.

The mean of the term in each cluster is added to the model: the coefficient of the term is then that within clusters, and that of the mean by how much
that between clusters is more.

References
----------
Mundlak (1978), Econometrica 46(1), 69-85, doi:10.2307/1913646.
Neuhaus & Kalbfleisch (1998), Biometrics 54(2), 638-645, doi:10.2307/3109770 (of odds ratios as well).
"""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from markbase.core.checks.hidden_groups import ends_with_event, hidden_group
from markbase.core.checks.one_more_term import with_each
from markbase.core.design.drawn import DrawnBy
from markbase.core.design.terms import Term, single
from markbase.core.errors import FitError, without_remarks
from markbase.core.inference.standard_errors import Errors
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.changes import Change, change_between
from markbase.core.results.linear import LinearFit
from markbase.core.rows.parts import in_parts
from markbase.core.study.column import Column
from markbase.core.study.declarations import with_levels
from markbase.core.tables import records_of

Array = NDArray[np.float64]
_CLEAR, _FEWEST = 0.001, 20
"""Nobody asked: p below, and so many clusters, are told."""
_MOST_ROWS, _MOST_TERMS = {True: 200_000, False: 20_000}, 20
"""So many rows of linear, and of logistic fits, and so many terms are asked."""
_MOST_LEVELS = 8
"""Groups of no more levels are asked."""
_LITTLE = 0.02
"""A term with less of its variation within clusters, or between them, is told to be of the one or the other."""


class Mixed(NamedTuple):
    """A coefficient that is not the same within clusters as between them."""

    cluster: str
    """The column of the clusters."""
    within: float
    """The coefficient within clusters, in the units of the table of coefficients."""
    between: float
    """That between the means of clusters."""
    p: float
    """The p of their difference, by errors clustered by that column."""
    joint: Change | None = None
    """Of a group of more than two levels the test of all their shares together, in place of the coefficients, which are NaN; None of another."""


@without_remarks()
def mixed_slopes(fit: AnyFit, among: set[str]) -> dict[str, Mixed]:
    """Return, by term, where a numeric column, or a group, clearly goes with the outcome otherwise within clusters than between them.

    The clusters are those of the errors, a column with that role, or one whose rows are alike in what the model misses. Nothing of fits with
    levels taken out, with a penalty, or of very many rows.
    """
    linear = isinstance(fit, LinearFit)
    penalised = not isinstance(fit, LinearFit) and bool(fit.penalty)
    if fit.exact or fit.fixed_effect_names or penalised or in_parts(fit.outcome.values):
        return {}
    terms = [t for t in fit.model_terms if t.name in among and (not t.is_categorical or _has_few_levels(t))]
    if fit.sample.used > _MOST_ROWS[linear] or not 0 < len(terms) <= _MOST_TERMS:
        return {}
    cluster = _clusters(fit)
    if cluster is None or ends_with_event(fit, cluster.values):
        return {}
    inside = slice(None) if fit.used is None else fit.used
    codes = np.unique(cluster.values[inside], return_inverse=True)[1]
    if cluster.values[inside].min() < 0 or codes.max() + 1 < _FEWEST or codes.max() + 1 == len(codes):
        return {}
    single_ones = [t for t in terms if not t.is_categorical or t.variables[0].size == 2]
    beside = [(t, mean) for t in single_ones if (mean := _mean_by(fit, t, codes, inside)) is not None]
    own: Any = fit
    if fit.cluster is None:
        own = replace(fit, **DrawnBy(cluster)._asdict(), errors=Errors("classical", fit.errors.df))
    found = {}
    for term, more in zip([t for t, _ in beside], with_each(own, [single(m) for _, m in beside]), strict=True):
        if more is None:
            continue
        rows = {str(r["term"]): r for r in records_of(more.coefficients) if not r["base"]}
        slope, extra = rows[term.name], rows[_mean_name(term)]
        if extra["p"] < _CLEAR:
            within = float(slope["estimate"])
            found[term.name] = Mixed(cluster.name, within, within + float(extra["estimate"]), float(extra["p"]))
    for term in (t for t in terms if t not in single_ones):
        joint = _shares_together(own, term, codes, inside)
        if joint is not None and joint.judged_p < _CLEAR:
            found[term.name] = Mixed(cluster.name, math.nan, math.nan, joint.judged_p, joint)
    return found


def _has_few_levels(term: Term) -> bool:
    return term.column.scheme == "indicator" and term.variables[0].size <= _MOST_LEVELS


def _shares_together(fit: AnyFit, term: Term, codes: NDArray[np.intp], inside: Any) -> Change | None:
    """Test the shares of the levels of a group by cluster, added to the model together; None where none varies within clusters and between them."""
    variable = term.variables[0]
    levels = [int(place) for k, place in enumerate(variable.places) if k != variable.base]
    means = [_mean_by(fit, term, codes, inside, level) for level in levels]
    more = [single(replace(mean, name=f"{mean.name} {k}")) for k, mean in enumerate(means) if mean is not None]
    try:
        return change_between(fit, fit._with_more(more)) if more else None
    except FitError:
        return None


def _clusters(fit: AnyFit) -> Column | None:
    """Return the column of the clusters, those of the errors or those that could be; None for none."""
    if fit.cluster is not None:
        return fit.cluster
    if fit.possible_cluster is not None:
        return fit.possible_cluster
    hidden = hidden_group(fit)
    if hidden is None or hidden.is_few:
        return None
    return with_levels(next(c for c in fit.repeating if c.name == hidden.column))


def _mean_by(fit: AnyFit, term: Term, codes: NDArray[np.intp], inside: Any, level: int | None = None) -> Column | None:
    """Return the mean of a term, or the share of a level, in the cluster of each row; None of one that hardly varies within clusters, or between them."""
    values = term.column.values[inside]
    if level is not None:
        values = (values == level).astype(np.float64)
    elif term.is_categorical:
        values = (values != term.variables[0].places[term.variables[0].base]).astype(np.float64)
    heavy = None if fit.weights is None else fit.weights.values[inside]
    weight = np.bincount(codes, weights=heavy)
    of_rows = values if heavy is None else values * heavy
    means = (np.bincount(codes, weights=of_rows) / np.where(weight > 0, weight, 1.0))[codes]
    whole = float(np.var(values))
    if not whole > 0 or not _LITTLE < float(np.var(means)) / whole < 1 - _LITTLE:
        return None
    column = np.full(fit.sample.rows, np.nan)
    column[inside] = means
    return Column(_mean_name(term), "numeric", column)


def _mean_name(term: Term) -> str:
    return f"mean of {term.name}"
