"""By how much an estimate moves when terms enter, and how sure that is.

The estimate of the smaller model is that of the larger one plus what the added terms carry for it: with A the regression of the
added columns on those before, ``b_smaller − b_larger = A γ``, γ the added coefficients. The movement is thus a combination of the
coefficients of the larger fit, and its variance has two parts, whatever the errors rest on: that of this combination (for classical errors of a
linear fit the formula of Clogg, Petkova & Haritou), which takes the rows' values of all columns as they are, and that of A, which is another in other
rows (Allison): of Aγ as the coefficients of a linear regression of what the larger fit gives on the columns before. Together they are the
error of a product of coefficients by the delta method (Sobel). In a logistic model the two fits are on different scales; the same combination
tells the movement on the scale of the larger one, free of the rescaling (Karlson, Holm & Breen).

References
----------
Allison (1995), American Journal of Sociology 100(5), 1294-1305, doi:10.1086/230639.
Clogg, Petkova & Haritou (1995), American Journal of Sociology 100(5), 1261-1293, doi:10.1086/230638.
Karlson, Holm & Breen (2012), Sociological Methodology 42(1), 286-313, doi:10.1177/0081175012444861.
Sobel (1982), Sociological Methodology 13, 290-312, doi:10.2307/270723.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import fields, replace
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.design.coefficient_map import Coefficient, components_of
from markbase.core.design.cross_products import gather
from markbase.core.design.terms import CodedColumns, Term
from markbase.core.estimation.least_squares import solve
from markbase.core.inference.covariance import errors_of
from markbase.core.inference.distributions import p_of_t, t_quantile
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.study.column import Column

Array = NDArray[np.float64]
_LITTLE, _OF_ERROR = 0.1, 0.25
COLUMNS = ["term", "level", "against", "before", "after", "change", "se", "low", "high", "p"]


def keeps_its_meaning(term: Term, before: AnyFit, after: AnyFit) -> bool:
    """Return whether a term of the smaller model is about the same thing in the larger one.

    It is not where an interaction or a curve that contains it has entered, or a column that moves with it: its row is then that at
    the reference of the others.
    """
    known = {t.name for t in before.model_terms}
    added = [t for t in after.model_terms if t.name not in known]
    names = set(term.names)
    if any(names <= set(t.names) for t in added):
        return False
    fresh = {n for t in added for n in t.names}
    return not any(set(after.moves_with(v.name)) & fresh for v in term.numerics)


def worth_telling(row: Any, se: float, alpha: float) -> bool:
    """Return whether a movement is clear, and larger than a tenth of the estimate and a quarter of its standard error."""
    size = abs(row.change)
    return bool(row.p < alpha and size >= _LITTLE * max(abs(row.before), abs(row.after)) and size >= _OF_ERROR * se)


def movements(before: AnyFit, after: AnyFit) -> pd.DataFrame:
    """Compute how the estimates that two fits on the same rows share move from the smaller to the larger.

    `term`, `level`, `against`, `before`, `after`, `change` (after less before), `se`, `low`, `high`, `p`: a row for each
    coefficient that keeps its meaning. Of logistic fits `before` is on the scale of the larger fit. NaN where the rows
    before had no estimate.
    """
    s, old = after.solution, np.ones(len(after.solution.columns), dtype=bool)  # levels taken out are in both
    old[after.term_tests.beyond(before.model_terms)] = False
    carried = _carried(after, old)
    told = after.coefficient_map
    same = {t.name for t in before.model_terms if keeps_its_meaning(t, before, after)}
    rows = [
        k
        for k, r in enumerate(told.rows)
        if r.term in same and not r.compared.base and told.known[k] and not told.starts[k]
    ]
    chooser = np.zeros((len(rows), len(s.columns)))
    chooser[:, ~old] = told.chooser[rows][:, old] @ carried
    none = np.zeros(len(rows), dtype=bool)
    change = -after.inner.estimates(chooser, none)
    se = np.hypot(
        after.inner.se(after.inner.roots(chooser, none)),
        _errors_of_carried(before, after, [told.rows[k] for k in rows]),
    )
    estimates = after.coefficient_rows.estimates[rows]
    half = t_quantile(after.level, after.df_rest) * se
    with np.errstate(divide="ignore", invalid="ignore"):
        p = p_of_t(np.where(se > 0, change / se, np.nan), after.df_rest)
    return pd.DataFrame(
        {
            "term": [told.rows[k].term for k in rows],
            "level": [told.rows[k].compared.level for k in rows],
            "against": [told.rows[k].compared.against for k in rows],
            "before": estimates - change,
            "after": estimates,
            "change": change,
            "se": se,
            "low": change - half,
            "high": change + half,
            "p": p,
        },
        columns=COLUMNS,
    )


def _errors_of_carried(before: AnyFit, after: AnyFit, rows: Sequence[Coefficient]) -> Array:
    """Return the standard errors, over samples of rows, of what the added terms carry for some coefficients of the smaller fit."""
    if (
        isinstance(before, LinearFit) and after.errors.middle is None
    ):  # what the larger fit gives is the outcome less its residual
        share = 1 - after.solution.residual / before.solution.residual if before.solution.residual > 0 else 0.0
        table, times = before.coefficients, math.sqrt(max(share, 0.0))
    elif isinstance(before, LinearFit):
        errors = errors_of(
            before.errors.kind,
            before.drawn_by,
            before.moments,
            before._blocks(before.model_terms),
            before.solution,
            before.used,
            before.weights,
            before.fixed_effects,
            before._residuals - after._residuals,
        )
        table, times = replace(before, errors=errors).coefficients, 1.0
    else:
        table, times = _regression_of_log_odds(before, after).coefficients, 1.0
    se = dict(zip(zip(table["term"], table["level"], strict=True), table["se"], strict=True))
    return np.array([se[r.term, r.compared.level] * times for r in rows])


def _regression_of_log_odds(before: LogisticFit, after: AnyFit) -> LinearFit:
    """Return the linear regression of the log odds of the larger fit on the terms of the smaller, with errors of its kind."""
    given = after._predictor_at(None)
    heavy, used = before.weights.values if before.weights else None, before.used
    blocks = [*(c.coded() for c in components_of(before.model_terms)), CodedColumns(1, multiplier=given)]
    moments = gather(blocks, before.sample.rows, used, heavy)
    solution = solve(moments, blocks, used, before.sample.rows, before.solution.columns, heavy)
    errors = errors_of(before.errors.kind, before.drawn_by, moments, blocks, solution, used, before.weights)
    shared = {f.name: getattr(before, f.name) for f in fields(LinearFit) if hasattr(before, f.name)}
    changed = {"moments": moments, "solution": solution, "errors": errors}
    return LinearFit(**shared | changed | {"outcome": Column("log odds", "numeric", given)})


def _carried(after: AnyFit, old: NDArray[np.bool_]) -> Array:
    """Return the regression of the added inner columns on those before, shape (old, added)."""
    s = after.solution
    if after.family.curved:  # the likelihood's own products are weighted by its curvature; this is about the columns
        blocks = [
            *(c.coded() for c in components_of(after.model_terms)),
            CodedColumns(1, multiplier=after.outcome.values.astype(np.float64)),
        ]
        heavy = after.weights.values if after.weights else None
        m = gather(blocks, after.sample.rows, after.used, heavy)
        at, scale = s.columns, np.repeat(m.scales, m.sizes)
        centred = m.cross[np.ix_(at, at)] - np.outer(m.cross[0, at], m.cross[0, at]) / m.weight
        R = np.linalg.cholesky(centred[np.ix_(old, old)])
        half = np.linalg.solve(R, centred[np.ix_(old, ~old)])
        return np.asarray(np.linalg.solve(R.T, half) * scale[at][~old] / scale[at][old][:, None])
    inverse = s.root @ s.root.T
    return np.asarray(-inverse[np.ix_(old, ~old)] @ np.linalg.inv(inverse[np.ix_(~old, ~old)]))
