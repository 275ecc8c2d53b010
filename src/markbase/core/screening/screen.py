"""Screening a set of predictors before they are fitted together."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from markbase.core.arguments import checked, checked_methods
from markbase.core.design.checked_terms import single_columns
from markbase.core.design.coefficient_map import components_of
from markbase.core.design.complete_cases import complete_rows
from markbase.core.design.cross_products import gather
from markbase.core.design.options import weight_column
from markbase.core.design.requested_terms import AllBut
from markbase.core.design.terms import CodedColumns, Component, Term, make_term, single
from markbase.core.design.weights import Weighting, take_weights
from markbase.core.errors import FitError, MarkbaseError, remark
from markbase.core.results.linear import LinearFit
from markbase.core.screening.advice import Advice, advice_on_products, give_advice
from markbase.core.screening.association import associations, pairwise, ranked
from markbase.core.screening.limits import Limits
from markbase.core.screening.prune import Pruned, prune
from markbase.core.screening.screen_tables import Pairs, ScreenTables
from markbase.core.screening.variance_inflation import (
    Basis,
)
from markbase.core.study.column import Column
from markbase.core.study.frames import AnyTable
from markbase.core.study.imputed import remark_on_stacked
from markbase.core.study.study import Study, as_study

_METHODS = ("pearson", "spearman")
_ROWS = ("complete", "pairwise")


@checked_methods
@dataclass(frozen=True, eq=False, repr=False)
class Screen(ScreenTables):
    """What a set of predictors has in common. Bands to look at, not tests."""

    from_products: tuple[Advice, ...] = ()
    """What interactions of the fit do to its other terms."""

    def prune(self, limit: float | None = None, keep: Sequence[str] = ()) -> Pruned:
        """Drop the worst term, recompute, and go on until none is above the limit.

        Parameters
        ----------
        limit : float, optional
            Inflation factor to come below; by default that of the limits. A group is held against it
            by the square of its comparable value, and dropped as a whole.
        keep : sequence of str
            Terms that must stay, whatever their variance inflation.

        Returns
        -------
        Pruned
            `steps` (`step`, `dropped`, `value`), `values`, `kept`, `cautions`. Nothing of it is called optimal.

        Raises
        ------
        MarkbaseError
            If a protected term is not there, or the limit is not above 1.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> screened = mb.screen(study, ["age", "travel_km", "travel_min"])
        >>> screened.prune(keep=["travel_km"]).kept
        ('age', 'travel_km')
        """
        return prune(self, self.limits.vif if limit is None else limit, keep)

    @cached_property
    def advice(self) -> tuple[Advice, ...]:
        """What the figures mean here, and what would do, a sentence a finding."""
        return give_advice(self, self.from_products)


@checked
def screen(
    study: Study | AnyTable,
    predictors: Sequence[str] | AllBut,
    outcome: str | None = None,
    *,
    limits: Limits | None = None,
    method: str = "pearson",
    rows: str = "complete",
    weights: str | None = None,
    weights_are: str = "sampling",
) -> Screen:
    """Screen predictors for what they have in common.

    Parameters
    ----------
    study : Study, or a table
        The data; a table (pandas, Polars, Arrow, DuckDB) is taken as a study without a codebook.
    predictors : sequence of str
        Names of columns, or `all_but` of some; identifiers are left out, and that is said.
    outcome : str, optional
        The outcome, a numeric column or a group; it stands first in the correlations and decides which
        rows are complete.
    limits : Limits, optional
        Where values are flagged.
    method : str
        ``pearson``, or ``spearman`` to rank the numeric columns first (for correlations).
    rows : str
        ``complete``: correlations on the rows a model would use. ``pairwise``: each on all rows that
        have both columns. Inflation is always on complete rows.
    weights : str, optional
        With how much each row counts, as for a fit: a numeric column. Ranks are not weighted.
    weights_are : str
        ``sampling`` or ``frequency``.

    Returns
    -------
    Screen
        Correlations, pairs, variance inflation, exact collinearity, condition indices and advice; print it to read it.

    Raises
    ------
    ColumnError
        If a column is missing, or cannot be used as declared.
    FitError
        If no row is complete, no predictor is left that varies, or a weight is below 0, or a frequency no whole number.

    Warns
    -----
    MarkbaseWarning
        For identifiers and constant columns left out, and where pairwise rows give another picture.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> screened = mb.screen(study, ["age", "travel_km", "travel_min"], outcome="belonging")
    >>> screened.vif[["term", "vif"]].round(1)
             term   vif
    0         age   1.0
    1   travel_km  23.1
    2  travel_min  23.1
    """
    study = as_study(study)
    remark_on_stacked(study[name] for name in study.columns)
    if method not in _METHODS:
        raise MarkbaseError(f"`{method}` is no way to correlate; there are `pearson` and `spearman`.")
    if method == "spearman" and weights is not None:
        raise MarkbaseError("Ranks are not weighted: leave `weights` out, or correlate by `pearson`.")
    if rows not in _ROWS:
        raise MarkbaseError(f"`{rows}` is no choice of rows; there are `complete` and `pairwise`.")
    target = None if outcome is None else study.column(outcome)
    columns = single_columns(study, predictors, outcome or "")
    weighing = weight_column(study, weights)
    used, sample = complete_rows(list(dict.fromkeys(c for c in (target, *columns, weighing) if c is not None)))
    weighed = None if weighing is None else take_weights(weighing, weights_are, used)
    heavy = weighed.values if weighed else None
    terms = []
    for column in columns:
        values = column.values if used is None else column.values[used]
        if values.min() == values.max():
            remark(f"`{column.name}` does not vary in the rows used: left out of the screening.")
        else:
            terms.append(make_term(column, used))
    if not terms:
        raise FitError("No predictor varies in the rows used, so there is nothing to screen.")
    head = [] if target is None else [_outcome_term(target, used)]
    basis = _basis(terms, used, study.rows, heavy)
    every = [*head, *terms]
    values, names = _correlated(every, used, study.rows, method == "spearman", heavy)
    counts = np.full(values.shape, weighed.counted() if weighed else sample.used)
    if rows == "pairwise":
        complete = values
        whole = None if weighing is None else take_weights(weighing, weights_are, weighing.present)
        values, counts = pairwise([t.column for t in every], make_term, method == "spearman", whole)
        heavy = whole.values if whole else None
        gap = np.nanmax(np.abs(values - complete)) if len(every) > 1 else 0.0
        if gap >= 0.05:
            a, b = np.unravel_index(int(np.nanargmax(np.abs(values - complete))), values.shape)
            remark(
                f"On all rows that have both, `{every[a].name}` and `{every[b].name}` correlate {values[a, b]:.2f}, on the rows of "
                f"the model {complete[a, b]:.2f}: the rows that are lost are not like the others."
            )
    labels = [t.name for t in every]
    holding = [n for n in study.columns if study[n].role == "weight" and n not in labels]
    by = Weighting(weighed.kind, weighed.column) if weighed else None
    return Screen(
        target,
        sample,
        limits or Limits(),
        method,
        rows,
        study.name,
        basis,
        Pairs(labels, values, names, counts, heavy),
        weighting=by,
        possible_weights=holding[0] if holding else "",
    )


@checked
def screen_fit(fit: LinearFit, *, limits: Limits | None = None) -> Screen:
    """Screen the terms of a fit, from its own moments: the rows are not touched.

    Parameters
    ----------
    fit : LinearFit
        The fit.
    limits : Limits, optional
        Where values are flagged.

    Returns
    -------
    Screen
        As `screen` gives on the fit's rows. Slopes by group and crossings are not screened as columns of
        their own; `advice` says what they do to the terms they are made of, and what centring would change. With fixed
        effects variance inflation and condition indices are those within the levels; correlations are over all rows.

    Raises
    ------
    FitError
        If the fit is logistic, or the model has no term that is a single column.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> fit = mb.fit_linear(study, "belonging", ["age", "voice"])
    >>> mb.screen_fit(fit).vif[["column", "vif"]].round(2)
        column   vif
    0           1.00
    1  soprano  1.30
    2    tenor  1.19
    3     bass  1.24
    """
    if not isinstance(fit, LinearFit):
        raise FitError(
            "Only linear fits are screened from what they left behind; `screen` takes the same columns of the study."
        )
    places = [k for k, c in enumerate(fit.components, 1) if c.degree + len(c.groups) == 1]
    if not places:
        raise FitError("The model has no term that is a single column, so there is nothing to screen.")
    parts = tuple(_single_term(fit.components[k - 1]) for k in places)
    fixed, last = fit.fixed_effects, len(fit.moments.sizes) - 1
    behind = range(len(fit.components) + 1, last + 1)  # a second column of fixed effects, and the outcome
    hidden = [t.coded()[0] for t in fixed.hidden] if fixed else []
    blocks = (*(fit.components[k - 1].coded() for k in places), *hidden, CodedColumns(1, multiplier=fit.outcome.values))
    heavy = fit.weights.values if fit.weights else None
    solved = fit.solution if len(parts) == len(fit.components) else None
    kept = [0, *places, *behind]
    within = fixed.only(fit.moments.columns_of(kept)) if fixed else None
    basis = Basis(fit.moments.only(kept), blocks, parts, fit.used, fit.sample.rows, heavy, solved, within)
    target = single(fit.outcome)
    values, names = associations(fit.moments.only([0, last, *places]), [target, *parts])
    labels = [fit.outcome.name, *(t.name for t in parts)]
    return Screen(
        fit.outcome,
        fit.sample,
        limits or Limits(),
        "pearson",
        "complete",
        fit.data_name,
        basis,
        Pairs(labels, values, names, np.full(values.shape, fit.rows_used.counted), heavy),
        fit.level,
        fit.weighting,
        fit.possible_weights,
        advice_on_products(fit),
    )


def _single_term(component: Component) -> Term:
    variable = component.groups[0] if component.groups else component.numerics[0][0]
    return Term(variable.name, (variable,))


def _outcome_term(column: Column, used: NDArray[np.bool_] | None) -> Term:
    values = column.values if used is None else column.values[used]
    if values.min() == values.max():
        raise FitError(f"The outcome `{column.name}` does not vary in the rows used, so nothing can relate to it.")
    return make_term(column, used)


def _basis(
    terms: Sequence[Term], used: NDArray[np.bool_] | None, rows: int, heavy: NDArray[np.float64] | None
) -> Basis:
    """Take the moments of the terms, with a stand-in for an outcome that has nothing to do with them."""
    stand_in = np.random.default_rng(0).standard_normal(rows)
    blocks = (*(c.coded() for c in components_of(terms)), CodedColumns(1, multiplier=stand_in))
    return Basis(gather(blocks, rows, used, heavy), blocks, tuple(terms), used, rows, heavy)


def _correlated(
    terms: Sequence[Term],
    used: NDArray[np.bool_] | None,
    rows: int,
    spearman: bool,
    heavy: NDArray[np.float64] | None,
) -> tuple[NDArray[np.float64], list[list[str]]]:
    blocks = [
        CodedColumns(1, multiplier=ranked(t.column, used)) if spearman and not t.is_categorical else t.coded()[0]
        for t in terms
    ]
    return associations(gather(blocks, rows, used, heavy), terms)
