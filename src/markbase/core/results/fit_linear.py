"""Fitting a linear regression: what is asked for, checked, and handed to the arithmetic."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from markbase.core.arguments import checked
from markbase.core.design.checked_terms import outcome_column
from markbase.core.design.coefficient_map import components_of, design_columns
from markbase.core.design.cross_products import gather
from markbase.core.design.fit_options import FitOptions
from markbase.core.design.options import check_request, check_room
from markbase.core.design.requested_terms import AllBut, TermRequest
from markbase.core.design.terms import CodedColumns
from markbase.core.errors import FitError, remark
from markbase.core.estimation.collinearity import collinearity_error, swept_error
from markbase.core.estimation.fixed_effects import check_apart, fixed_effect_columns, fixed_effects_of
from markbase.core.estimation.least_squares import solve
from markbase.core.estimation.least_squares_solution import Dependent, Swept
from markbase.core.inference.covariance import errors_of
from markbase.core.inference.standard_errors import remark_on_clusters
from markbase.core.results.linear import LinearFit
from markbase.core.study.frames import AnyTable
from markbase.core.study.study import Study, as_study

_NEARLY = 0.98
"""A correlation with the outcome that is remarked on."""


@checked
def fit_linear(
    study: Study | AnyTable,
    outcome: str,
    terms: Sequence[TermRequest] | AllBut,
    *,
    level: float = 0.95,
    errors: str | None = None,
    cluster: str | Sequence[str] | None = None,
    strata: str | None = None,
    time: str | None = None,
    fixed_effects: str | Sequence[str] | None = None,
    weights: str | None = None,
    weights_are: str = "sampling",
    replicates: str | Sequence[str] | None = None,
    replicates_are: str | None = None,
    replicates_scale: float | None = None,
    main_effects: str = "add",
) -> LinearFit:
    """Fit a linear regression by least squares.

    Parameters
    ----------
    study : Study, or a table
        The data, with the base of each group marked. A table (pandas, Polars, Arrow, DuckDB) is taken as a study without a
        codebook: what its columns are is guessed, and the largest level of a group is its base.
    outcome : str
        The name of a numeric column.
    terms : sequence of str, Polynomial or Interaction, or AllBut
        Names of columns, or `all_but` of some. A numeric column enters as it is, a group as its coding has it
        (by default the differences of its levels from its base). `polynomial` lets a numeric column have a curve,
        `interaction` what one column goes with differ by another; either may be written as text, ``"interaction(age, voice)"``.
    level : float
        Confidence level of the intervals, between 0 and 1.
    errors : str
        ``classical`` (the default), or ``robust`` (which is ``HC3``), ``HC0``, ``HC1``, ``HC2``, ``HC3`` for
        a variance that may differ from row to row, which sampling weights need and get by default. With a
        `cluster`, ``CR1`` (the default) or ``CR3``, with two of the same members ``dyadic``; with a `time` ``HAC``.
    cluster : str or sequence of str, optional
        A group whose rows may go together, such as the choir of a singer (whole numbers that nobody declared are taken as its codes): errors are clustered by
        it, with t on G − 1 degrees of freedom, and F of several coefficients after Hotelling. ``CR1`` sums scores within clusters, with G/(G − 1)·(n − 1)/(n − p); ``CR3``, the
        jackknife, takes what estimates would be without each cluster, and is seldom too small where clusters are few.
        Two groups that cross, such as judge and song: rows that share either may go together (``CR1``; t on one less than the fewer clusters). Two columns
        of the same members, such as who asks and who is asked: rows that have one in common, in either column, may go together (``dyadic``; t on members less one).
    strata : str, optional
        A group within whose levels the sample was drawn, whole clusters of it, or rows where there is no `cluster`. What differs
        from stratum to stratum is then no chance of the draw: scores are taken from the mean of their stratum, those of n clusters
        (or rows) n/(n − 1) times; t has as many degrees of freedom less as there are strata more than one. With one
        stratum errors are those without: ``CR1``, or ``HC1`` of rows.
    time : str, optional
        A column that tells when each row was measured (numbers, dates, waves in order): errors allow rows of one time, and of times that follow one another, to go
        together (``HAC``), with t on .4 T^⅔ degrees of freedom for T times, whatever lies between them. For one series, or many over the same times.
    fixed_effects : str or sequence of str, optional
        One column, or two, whose many levels are controlled for and not listed: every other estimate is
        the same as with all their indicators in the model. Clustered errors (CR1) do not count levels that lie in one cluster each among
        the coefficients, as they would indicators.
    weights : str, optional
        A numeric column that says with how much each row counts; a row of 0 is left out, none may be below 0.
    weights_are : str
        ``sampling``: a row stands for others who were not asked, and only the proportions of the
        weights matter. ``frequency``: a row stands for so many rows alike, in whole numbers.
    replicates : str or sequence of str, optional
        Replicate weights of a survey, beside the `weights` of the sample: their columns, or what the names have in common (``"w_rep*"``). Errors are from how
        estimates differ with each of them, with t and F on as many degrees of freedom (one less of ``JK1`` and ``bootstrap``).
    replicates_are : str, optional
        How they were made, as the documentation of the survey has it: ``BRR`` (balanced repeated replication), ``Fay`` (the same with weights halved), ``JK1``
        (one unit left out at a time), ``JK2`` (of pairs), ``SDR`` (successive differences) or ``bootstrap``.
    replicates_scale : float, optional
        What the sum of squared differences is multiplied with where it is another than usual: 1/R of R replicates (``BRR``, ``bootstrap``), 4/R (``Fay``, ``SDR``),
        (R − 1)/R (``JK1``), 1 (``JK2``).
    main_effects : str
        What is done where an interaction comes without the terms it is made of: they are added with a remark (``add``),
        or it is refused (``refuse``).

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
        are too nearly collinear, or do not vary within the levels taken out; if there are fewer than two clusters, or
        fewer than 20 times.
    MarkbaseError
        If errors, clusters, strata and time are asked for that do not go together.
    CollinearityError
        If terms are exactly collinear; the message says how.

    Warns
    -----
    MarkbaseWarning
        For identifiers left out, an outcome that the terms reproduce exactly, few clusters, clusters of two groups that do not cross, and
        levels of `fixed_effects` with one row only.

    Notes
    -----
    By default one variance holds for all rows, and rows are independent. With X the columns, the
    intercept among them, ``b = (XᵀX)⁻¹Xᵀy``, ``Var(b) = s²(XᵀX)⁻¹`` and ``s² = RSS/(n − p)``. The
    joint test of a term is ``F = bᵢᵀ Vᵢ⁻¹ bᵢ / dfᵢ`` over its own coefficients.

    References
    ----------
    Seber & Lee (2003), Linear Regression Analysis, 2nd ed., ch. 3-4, doi:10.1002/9780471722199.
    MacKinnon & White (1985), Journal of Econometrics 29(3), 305-325, doi:10.1016/0304-4076(85)90158-7.
    MacKinnon, Nielsen & Webb (2023), Journal of Applied Econometrics 38(5), 671-694, doi:10.1002/jae.2969.
    Cameron, Gelbach & Miller (2011), Journal of Business & Economic Statistics 29(2), 238-249, doi:10.1198/jbes.2010.07136 (two-way).
    Aronow, Samii & Assenova (2015), Political Analysis 23(4), 564-577, doi:10.1093/pan/mpv018 (dyads).
    Lazarus, Lewis, Stock & Watson (2018), Journal of Business & Economic Statistics 36(4), 541-559, doi:10.1080/07350015.2018.1506926 (HAC).
    Fuller (1975), Sankhyā C 37(3), 117-132 (strata).
    Wolter (2007), Introduction to Variance Estimation, 2nd ed., doi:10.1007/978-0-387-35099-8 (replicate weights).
    Pustejovsky & Tipton (2018), Journal of Business & Economic Statistics 36(4), 672-683, doi:10.1080/07350015.2016.1247004.

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
    options = FitOptions(
        level=level,
        errors=errors,
        cluster=cluster,
        strata=strata,
        time=time,
        weights=weights,
        weights_are=weights_are,
        replicates=replicates,
        replicates_are=replicates_are,
        replicates_scale=replicates_scale,
        main_effects=main_effects,
    )
    study = as_study(study)
    target = outcome_column(study, outcome)
    controls = fixed_effect_columns(study, fixed_effects, outcome)
    request = check_request(study, target, terms, options, controls)
    check_apart(controls, request.specs)
    used, heavy = request.used, request.heavy
    values = target.values if used is None else target.values[used]
    if values.min() == values.max():
        raise FitError(
            f"The outcome `{outcome}` is {values.min():g} in every row used, so there is no variation to explain."
        )
    parts = request.terms()
    fixed = fixed_effects_of(controls, used, heavy)
    every = (*parts, *(fixed.hidden if fixed else ()))
    blocks = [*(c.coded() for c in components_of(every)), CodedColumns(1, multiplier=target.values)]
    moments = gather(blocks, study.rows, used, heavy)
    chosen = design_columns(parts, moments)
    if fixed is not None:
        fixed = fixed.gathered(moments, blocks, used)
        chosen = np.concatenate([chosen, fixed.free_levels(moments, len(components_of(parts)) + 1)])
    check_room(request.counted_rows, len(chosen) + (fixed.levels if fixed else 1), request.sample.losses)
    try:
        solution = solve(moments, blocks, used, study.rows, chosen, heavy, fixed)
        if fixed is not None:
            alone = fixed.free_levels(moments, len(components_of(parts)) + 1)
            left = solution.explained + solution.residual
            if len(alone):  # what the second column leaves of it
                left = solve(moments, blocks, used, study.rows, alone, heavy, fixed).residual
            fixed = replace(fixed, outcome_ss=left)
    except Dependent as finding:
        raise collinearity_error(finding, moments, every, fixed.names if fixed else ()) from None
    except Swept as finding:
        raise swept_error(finding, moments, every, fixed.names if fixed else (), outcome) from None
    found = errors_of(request.errors, request.drawn_by, moments, blocks, solution, used, request.weights, fixed)
    remark_on_clusters(found)
    fit = LinearFit(
        outcome=target,
        model_terms=parts,
        sample=request.sample,
        level=level,
        data_name=study.name,
        moments=moments,
        solution=solution,
        used=used,
        errors=found,
        **request.drawn_by._asdict(),
        weights=request.weights,
        possible_cluster=request.possible_cluster,
        possible_weights=request.possible_weights,
        repeating=request.repeating,
        timed_by=request.timed_by,
        shared=request.shared,
        began=request.began,
        stacked=request.stacked,
        plausible=request.plausible,
        identifier=request.identifier,
        index=request.index,
        fixed_effects=fixed,
    )
    _remark_on_reproduction(fit)
    if fit.exact:
        remark(
            f"The terms reproduce `{outcome}` exactly, to within rounding: standard errors, tests and intervals mean nothing "
            f"here. Is the outcome made of its predictors?"
        )
    return fit


def _remark_on_reproduction(fit: LinearFit) -> None:
    """Say that a numeric column by itself all but reproduces the outcome, as a score made of it or an old prediction does."""
    if fit.exact or fit.strength.r2 < _NEARLY**2:
        return
    m = fit.moments
    at = [
        (c.numerics[0][0].name, int(m.starts[k]))
        for k, c in enumerate(fit.components, 1)
        if c.degree == 1 and not c.groups
    ]
    last = m.cross.shape[0] - 1
    for name, k in at:
        centred = (
            m.cross[np.ix_([k, last], [k, last])] - np.outer(m.cross[0, [k, last]], m.cross[0, [k, last]]) / m.weight
        )
        r = float(centred[0, 1] / np.sqrt(centred[0, 0] * centred[1, 1]))
        told = fit.variable(name, "numeric").column.made is not None or name in {s.column for s in fit.shared}
        if abs(r) >= _NEARLY and not told:
            remark(
                f"`{name}` by itself all but reproduces `{fit.outcome.name}` (r {r:.3f}): was one made of the other, or is it an old prediction or a "
                f"residual? What the other terms tell then says little about the outcome."
            )
