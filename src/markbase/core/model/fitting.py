"""Fitting a linear regression: what is asked for, checked, and handed to the arithmetic."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from markbase.core.errors import ColumnError, FitError, MarkbaseError, count_noun, remark
from markbase.core.model.covariance import FEW_CLUSTERS, errors_of, take_weights
from markbase.core.model.gathering import gather
from markbase.core.model.linear import LinearFit
from markbase.core.model.overlap import overlap_error, swept_error
from markbase.core.model.sample import complete_rows
from markbase.core.model.solve import Dependent, Swept, solve
from markbase.core.model.telling import design_columns
from markbase.core.model.terms import (
    AllBut,
    Block,
    Spec,
    check_usable,
    make_term,
    make_terms,
    outcome_column,
    predictor_specs,
)
from markbase.core.model.within import take_out, within_columns
from markbase.core.study.column import Column
from markbase.core.study.study import Study


def fit_linear(
    study: Study,
    outcome: str,
    terms: Sequence[Spec] | AllBut,
    *,
    level: float = 0.95,
    errors: str | None = None,
    cluster: str | None = None,
    within: str | Sequence[str] | None = None,
    weights: str | None = None,
    weights_are: str = "sampling",
) -> LinearFit:
    """Fit a linear regression by least squares.

    Parameters
    ----------
    study : Study
        The data, with the base of each group marked.
    outcome : str
        The name of an amount.
    terms : sequence of str, Slope or Cross, or AllBut
        Names of columns, or `all_but` of some. An amount enters as it is, a group as its coding has it
        (by default the differences of its levels from its base). `slope` lets the slope of an amount
        differ by group, `cross` the differences between levels of one group by another.
    level : float
        Confidence level of the intervals, between 0 and 1.
    errors : str
        ``classical`` (the default), or ``robust`` (which is ``HC3``), ``HC0``, ``HC1``, ``HC2``, ``HC3`` for
        a variance that may differ from row to row, which sampling weights need and get by default.
    cluster : str, optional
        A group whose rows may go together, such as the choir of a singer: errors are clustered by
        it, with G/(G − 1)·(n − 1)/(n − p) for few clusters and t on G − 1 degrees of freedom.
    within : str or sequence of str, optional
        One column, or two, whose many levels are controlled for and not listed: every other estimate is
        the same as with all their indicators in the model.
    weights : str, optional
        An amount that says with how much each row counts; all positive.
    weights_are : str
        ``sampling``: a row stands for others who were not asked, and only the proportions of the
        weights matter. ``frequency``: a row stands for so many rows alike, in whole numbers.

    Returns
    -------
    LinearFit
        Estimates, tests and the account of the sample.

    Raises
    ------
    ColumnError
        If a column is missing, of the wrong kind, or cannot be used as declared.
    FitError
        If no row is complete, the outcome or a term does not vary, rows are too few, or the terms
        overlap too nearly, or do not vary within the levels taken out.
    OverlapError
        If terms overlap exactly; the message names the overlap.

    Warns
    -----
    MarkbaseWarning
        For identifiers left out, an outcome that the terms reproduce exactly, few clusters, and levels of
        `within` with one row only.

    Notes
    -----
    By default one variance holds for all rows, and rows are independent. With X the columns, the
    intercept among them, ``b = (XᵀX)⁻¹Xᵀy``, ``Var(b) = s²(XᵀX)⁻¹`` and ``s² = RSS/(n − p)``. The
    joint test of a term is ``F = bᵢᵀ Vᵢ⁻¹ bᵢ / dfᵢ`` over its own coefficients.

    References
    ----------
    Seber & Lee (2003), Linear Regression Analysis, 2nd ed., ch. 3-4, doi:10.1002/9780471722199.
    MacKinnon & White (1985), Journal of Econometrics 29(3), 305-325, doi:10.1016/0304-4076(85)90158-7.

    Examples
    --------
    >>> import pandas as pd
    >>> data = pd.DataFrame({"part": list("ab") * 30, "score": [1, 3, 2, 5, 4, 7] * 10})
    >>> fit = fit_linear(Study(data).mark("part", "a"), "score", ["part"])
    >>> fit.coefficients[["term", "level", "base", "estimate"]].round(6)
              term level   base  estimate
    0  (intercept)        False  2.333333
    1         part     a   True  0.000000
    2         part     b  False  2.666667
    """
    _check_level(level)
    target = outcome_column(study, outcome)
    specs, wanted_columns = predictor_specs(study, terms, outcome)
    columns = list(wanted_columns.values())
    weighing = _weight_column(study, weights)
    sampled = weighing is not None and weights_are == "sampling"
    if sampled and errors == "classical" and cluster is None:
        raise MarkbaseError("Sampling weights need robust or clustered errors; leave `errors` out, or cluster.")
    kind = errors or ("robust" if sampled and cluster is None else "classical")
    grouping = _cluster_column(study, cluster, kind)
    controls = within_columns(study, within, [outcome, *(s for s in specs if isinstance(s, str))])
    extra = [c for c in dict.fromkeys((grouping, weighing, *controls)) if c is not None and c not in columns]
    used, sample = complete_rows([target, *columns, *extra])
    counted = None if weighing is None else take_weights(weighing, weights_are, used)
    heavy = counted.values if counted else None
    values = target.values if used is None else target.values[used]
    if values.min() == values.max():
        raise FitError(
            f"The outcome `{outcome}` is {values[0]:g} in every row used, so there is no variation to explain."
        )
    parts = make_terms(specs, {column.name: make_term(column, used) for column in columns})
    absorbed = take_out(controls, used, heavy)
    hidden = absorbed.hidden if absorbed else ()
    blocks = [*(t.block() for t in (*parts, *hidden)), Block(1, multiplier=target.values)]
    moments = gather(blocks, study.rows, used, heavy)
    chosen = design_columns(parts, moments)
    wanted = 1 + len(chosen)
    if absorbed is not None:
        absorbed = absorbed.gathered(moments, blocks, used)
        chosen = np.concatenate([chosen, absorbed.free_levels(moments, len(parts) + 1)])
        wanted = absorbed.levels + len(chosen)
    if sample.used <= wanted:
        raise FitError(
            f"{count_noun(sample.used, 'row')} with a value in every column cannot carry {wanted} coefficients (the intercept "
            f"among them): at least {wanted + 1} are needed, and far more to be of use. Leave terms out or merge levels."
        )
    try:
        solution = solve(moments, blocks, used, study.rows, chosen, heavy, absorbed)
        if absorbed is not None:
            alone = absorbed.free_levels(moments, len(parts) + 1)
            left = solution.explained + solution.residual
            if len(alone):  # what the second column leaves of it
                left = solve(moments, blocks, used, study.rows, alone, heavy, absorbed).residual
            absorbed = replace(absorbed, outcome_ss=left)
    except Dependent as finding:
        raise overlap_error(finding, moments, (*parts, *hidden), absorbed.names if absorbed else ()) from None
    except Swept as finding:
        raise swept_error(finding, moments, (*parts, *hidden), absorbed.names if absorbed else (), outcome) from None
    found = errors_of(kind, grouping, moments, blocks, solution, used, counted, absorbed)
    if grouping is not None and found.clusters < FEW_CLUSTERS:
        remark(
            f"`{grouping.name}` has only {found.clusters} clusters: clustered errors tend to be too small with fewer than "
            f"{FEW_CLUSTERS}, so read intervals as narrower than they should be."
        )
    inside = {column.name for column in columns}
    possible = [n for n in study.columns if study[n].role == "cluster" and study[n].is_group and n not in inside]
    hint = possible[0] if possible and grouping is None else ""
    fit = LinearFit(
        target, parts, sample, level, study.name, moments, solution, used, found, grouping, counted, hint, absorbed
    )
    if fit.exact:
        remark(
            f"The terms reproduce `{outcome}` exactly, to within rounding: standard errors, tests and intervals mean nothing "
            f"here. Is the outcome made of its predictors?"
        )
    return fit


def _check_level(level: Any) -> None:
    if not isinstance(level, (int, float)) or not 0 < level < 1:
        raise MarkbaseError(f"The confidence level is {level!r}; it must lie between 0 and 1, for instance 0.95.")


def _cluster_column(study: Study, name: str | None, errors: str) -> Column | None:
    if name is None:
        return None
    if errors != "classical":
        raise MarkbaseError(f"Errors are either `{errors}` or clustered by `{name}`; leave one of the two out.")
    column = study.column(name)
    if not column.is_group:
        raise ColumnError(f"`{name}` is an amount; clusters are the levels of a group, so declare it one.")
    return column


def _weight_column(study: Study, name: str | None) -> Column | None:
    if name is None:
        return None
    column = study.column(name)
    if column.is_group:
        raise ColumnError(f"`{name}` is a group; weights are an amount.")
    check_usable(column)
    return column
