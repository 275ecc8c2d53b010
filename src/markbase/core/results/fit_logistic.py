"""Fitting a logistic regression: what is asked for, checked, and handed to the arithmetic."""

from __future__ import annotations

from collections.abc import Sequence

from markbase.core.arguments import checked
from markbase.core.design.checked_terms import check_usable
from markbase.core.design.fit_options import FitOptions
from markbase.core.design.options import check_request
from markbase.core.design.requested_terms import AllBut, TermRequest
from markbase.core.errors import ColumnError, FitError, LevelError, MarkbaseError, count_noun, listed, quoted, remark
from markbase.core.formatting import plain, short
from markbase.core.results.logistic import LogisticFit, fit_of
from markbase.core.study.column import Column
from markbase.core.study.cutting import event_column, few_values
from markbase.core.study.frames import AnyTable
from markbase.core.study.numeric_remarks import stray_codes
from markbase.core.study.study import Study, as_study

FEW_EVENTS = 10
"""Fewer events, or non-events, for each coefficient than this are remarked on."""
_SPARSE = 5


@checked
def fit_logistic(
    study: Study | AnyTable,
    outcome: str,
    terms: Sequence[TermRequest] | AllBut,
    *,
    event: object = None,
    level: float = 0.95,
    errors: str | None = None,
    cluster: str | Sequence[str] | None = None,
    strata: str | None = None,
    time: str | None = None,
    weights: str | None = None,
    weights_are: str = "sampling",
    replicates: str | Sequence[str] | None = None,
    replicates_are: str | None = None,
    replicates_scale: float | None = None,
    penalty: str | None = None,
    main_effects: str = "add",
) -> LogisticFit:
    """Fit a logistic regression by maximum likelihood.

    Parameters
    ----------
    study : Study, or a table
        The data, with the base of each group marked. A table (pandas, Polars, Arrow, DuckDB) is taken as a study without a
        codebook: what its columns are is guessed, and the largest level of a group is its base.
    outcome : str
        The name of a column of two levels, or of a numeric column of two values.
    terms : sequence of str, Polynomial or Interaction, or AllBut
        As for `fit_linear`.
    event : object, optional
        The level (label or code) or value of the outcome whose odds are modelled. It may be left out only
        where the codebook names it, or the outcome is 0 and 1, or false and true, of which 1 or true is the event.
    level : float
        Confidence level of the intervals, between 0 and 1.
    errors : str
        ``classical`` (the default: from the curvature of the likelihood), or ``robust`` (which is ``HC3``),
        ``HC0``, ``HC1``, ``HC2``, ``HC3``, which sampling weights need and get by default; with a `cluster`, ``CR1`` or ``CR3``, with two of the same members ``dyadic``.
    cluster : str or sequence of str, optional
        A group whose rows may go together, or two that cross; errors are clustered by it, as for `fit_linear`, with t and F on degrees of freedom of the
        clusters in place of z and chi-squared. What estimates would be without each cluster (``CR3``) is told by one step of the fit.
    strata : str, optional
        A group within whose levels clusters, or rows, were drawn, as for `fit_linear`.
    time : str, optional
        A column that tells when each row was measured, as for `fit_linear`.
    weights : str, optional
        A numeric column that says with how much each row counts; a row of 0 is left out, none may be below 0.
    weights_are : str
        ``sampling`` or ``frequency``, as for `fit_linear`.
    replicates, replicates_are, replicates_scale : str or sequence of str, str, float, optional
        Replicate weights of a survey and how they were made, as for `fit_linear`; the likelihood is maximised with each of them.
    penalty : str, optional
        ``firth``: penalised likelihood, which has finite estimates also where levels foretell the outcome,
        with intervals and tests by the penalised likelihood itself.
    main_effects : str
        As for `fit_linear`.

    Returns
    -------
    LogisticFit
        Estimates, tests and the account of the sample.

    Raises
    ------
    ColumnError
        If a column is missing, of the wrong kind, or cannot be used as declared; if the outcome has not two levels.
    LevelError
        If the event is not a level of the outcome.
    FitError
        If no row is complete, the outcome or a term does not vary, rows are too few, or the steps do not end; if clusters
        or times are too few, as for `fit_linear`.
    MarkbaseError
        If errors, clusters, strata, time and penalty are asked for that do not go together.
    SeparationError
        If terms foretell the outcome without exception; the message says which and in how many rows.
    CollinearityError
        If terms are exactly collinear.

    Warns
    -----
    MarkbaseWarning
        For identifiers left out, few events for each coefficient, levels with few events, and few clusters.

    Notes
    -----
    With ``p = 1/(1 + exp(−xb))`` the log-likelihood is ``Σ y log p + (1 − y) log(1 − p)``, its curvature
    ``XᵀWX`` with ``W = p(1 − p)``. Firth's penalty adds ``½ log|XᵀWX|``.

    References
    ----------
    McCullagh & Nelder (1989), Generalized Linear Models, 2nd ed., ch. 4, doi:10.1007/978-1-4899-3242-6.
    Firth (1993), Biometrika 80(1), 27-38, doi:10.1093/biomet/80.1.27.

    Examples
    --------
    >>> import pandas as pd
    >>> data = pd.DataFrame({"part": list("aabb") * 40, "stays": list("yynyynyn") * 20})
    >>> fit = fit_logistic(Study(data).mark("part", "a"), "stays", ["part"], event="y")
    >>> fit.coefficients[["term", "level", "base", "odds_ratio"]].round(6)
              term level   base  odds_ratio
    0  (intercept)        False    3.000000
    1         part     a   True    1.000000
    2         part     b  False    0.333333
    """
    if penalty not in (None, "firth"):
        raise MarkbaseError(f"There is no penalty {penalty!r}; there is `firth`.")
    firth = penalty == "firth"
    drawn = cluster is not None or strata is not None or time is not None or (weights_are == "sampling" and weights)
    if firth and (errors not in (None, "classical") or drawn):
        raise MarkbaseError(
            "Penalised likelihood comes with tests and intervals of its own; leave `errors`, `cluster`, `strata`, `time` and sampling weights out."
        )
    study = as_study(study)
    target = two_level_outcome(study, outcome, event)
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
    request = check_request(study, target, terms, options)
    fit = fit_of(target, request.terms(), request, study.name, firth)
    _remark_on_events(fit)
    return fit


def _first_blank(column: Column) -> str:
    """Say which values of an outcome may be codes for a missing answer, to be blanked first; empty where none are."""
    codes = [plain(code, 12) for code, _ in stray_codes(column)]
    return (
        f"blank {listed(quoted(codes))}, if {'these are codes' if len(codes) > 1 else 'it is a code'} for a missing answer; or "
        if codes
        else ""
    )


def two_level_outcome(study: Study, name: str, event: object) -> Column:
    """Return a yes/no outcome as a group of two levels, the event the second.

    Where the event is None it is what the codebook says, or 1 of 0 and 1, and true of true and false.
    """
    column = study.column(name)
    if column.fault:
        raise ColumnError(column.fault)
    if column.is_categorical:
        occurring = [v.label for k, v in enumerate(column.levels) if column.counts[k]]
    else:
        check_usable(column)
        occurring = [plain(v, 12) for v in few_values(column.values, 7)]
    if len(occurring) > 2:
        many = (
            f"{len(occurring)} levels"
            if column.is_categorical
            else f"{'more than 6' if len(occurring) > 6 else len(occurring)} values"
        )
        raise ColumnError(
            f"The outcome `{name}` has {many} ({', '.join(quoted(occurring[:4]))}{', …' if len(occurring) > 4 else ''}), and a logistic "
            f"regression needs two: {_first_blank(column)}make a yes/no column of it (`event`, `split_at` or `merge_levels`), or fit a linear regression to a "
            "numeric column."
        )
    if len(occurring) < 2:
        raise FitError(
            f"The outcome `{name}` is `{occurring[0]}` in every row that has a value, so there is nothing to explain."
            if occurring
            else f"The outcome `{name}` has no value in any row."
        )
    if event is None:
        if column.is_categorical and column.event is not None:
            event = column.levels[column.event].label
        elif not column.is_categorical and column.span == (0.0, 1.0):
            event = 1
        elif sorted(label.casefold() for label in occurring) == ["false", "true"]:
            event = next(label for label in occurring if label.casefold() == "true")
        else:
            raise FitError(
                f"Which of {listed(quoted(occurring), 'or')} of `{name}` is the event whose odds are to be modelled? "
                "Name one of them as the event."
            )
    if isinstance(event, (list, tuple)):
        raise LevelError(
            f"The event of `{name}` is one of its two levels, {listed(quoted(occurring), 'or')}, not a list."
        )
    if not column.is_categorical:
        try:
            event = float(event)  # type: ignore[arg-type]
        except (TypeError, ValueError):
            raise LevelError(
                f"`{name}` is numeric of {listed(quoted(occurring))}; its event is one of these, not `{event}`."
            ) from None
    return event_column(column, event, name, None)


def _remark_on_events(fit: LogisticFit) -> None:
    """Remark on few events, over all and in single levels."""
    fewer = min(fit.events, fit.rows_used.counted - fit.events)
    which = fit.event if fit.events == fewer else fit.otherwise
    p = len(fit.solution.columns)
    if fewer < FEW_EVENTS * p and not fit.penalty:
        way = ", or penalised likelihood (penalty firth)" if fit.by_likelihood else ""
        remark(
            f"Only {count_noun(fewer, 'row')} used {'is' if fewer == 1 else 'are'} `{which}`, {short(fewer / p, 2)} for each of {p} coefficients: "
            f"with fewer than {FEW_EVENTS}, estimates tend to be too far from 0 and intervals unsafe. Use fewer terms{way}."
        )
    for term in fit.model_terms:
        if not term.is_categorical:
            continue
        rows, events = fit.events_by_level(term.name)
        thin = [
            f"`{label}` ({int(e)} of {int(n)})"
            for label, n, e in zip(term.labels, rows, events, strict=True)
            if min(e, n - e) < _SPARSE
        ]
        if thin:
            remark(
                f"`{term.name}`: few rows are `{fit.event}`, or few are not, in {listed(thin)}: what is told of "
                f"{'it' if len(thin) == 1 else 'them'} rests on these."
            )
