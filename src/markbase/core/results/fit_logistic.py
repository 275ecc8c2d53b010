"""Fitting a logistic regression: what is asked for, checked, and handed to the arithmetic."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.coefficient_map import design_columns
from markbase.core.design.cross_products import gather, gather_sums
from markbase.core.design.options import FitOptions, Request, check_request, check_room
from markbase.core.design.requested_terms import AllBut, Spec, check_usable
from markbase.core.design.terms import Block, Term
from markbase.core.errors import ColumnError, FitError, LevelError, MarkbaseError, count_noun, listed, quoted, remark
from markbase.core.estimation.collinearity import collinearity_error
from markbase.core.estimation.least_squares import solve
from markbase.core.estimation.least_squares_solution import Dependent
from markbase.core.estimation.likelihood import Rows, Theta
from markbase.core.estimation.newton import Information, Maximum, gradient_of, information_at, maximise
from markbase.core.estimation.separation import check_levels, separates, separation_error
from markbase.core.formatting import short
from markbase.core.inference.covariance import LEVERED, Errors, ScoredRows, Whitened, check_kind, sandwich
from markbase.core.results.logistic import LogisticFit
from markbase.core.study.column import Column
from markbase.core.study.cutting import event_column, few_values
from markbase.core.study.study import Study

Array = NDArray[np.float64]
FEW_EVENTS = 10
"""Fewer events, or non-events, for each coefficient than this are remarked on."""
_SPARSE = 5
_SAMPLE_ROWS = 1 << 15
_MANY_ROWS = 200_000
_NEAR_ENOUGH = 0.1
"""A squared step, in standard errors of a part of the rows, that does not matter for all of them."""


def fit_logistic(
    study: Study,
    outcome: str,
    terms: Sequence[Spec] | AllBut,
    *,
    event: object = None,
    level: float = 0.95,
    errors: str | None = None,
    cluster: str | None = None,
    weights: str | None = None,
    weights_are: str = "sampling",
    penalty: str | None = None,
) -> LogisticFit:
    """Fit a logistic regression by maximum likelihood.

    Parameters
    ----------
    study : Study
        The data, with the base of each group marked.
    outcome : str
        The name of a column of two levels, or of a numeric column of two values.
    terms : sequence of str, Slope or Cross, or AllBut
        As for `fit_linear`.
    event : object, optional
        The level (label or code) or value of the outcome whose odds are modelled. It may be left out only
        where the codebook names it, or the outcome is 0 and 1, of which 1 is the event.
    level : float
        Confidence level of the intervals, between 0 and 1.
    errors : str
        ``classical`` (the default: from the curvature of the likelihood), or ``robust`` (which is ``HC3``),
        ``HC0``, ``HC1``, ``HC2``, ``HC3``, which sampling weights need and get by default.
    cluster : str, optional
        A group whose rows may go together; errors are clustered by it.
    weights : str, optional
        A numeric column that says with how much each row counts; all positive.
    weights_are : str
        ``sampling`` or ``frequency``, as for `fit_linear`.
    penalty : str, optional
        ``firth``: penalised likelihood, which has finite estimates also where levels foretell the outcome,
        with intervals and tests by the penalised likelihood itself.

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
        If no row is complete, the outcome or a term does not vary, rows are too few, or the steps do not end.
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
    if firth and (errors not in (None, "classical") or cluster is not None or (weights_are == "sampling" and weights)):
        raise MarkbaseError(
            "Penalised likelihood comes with tests and intervals of its own; leave `errors`, `cluster` and sampling weights out."
        )
    target = two_level_outcome(study, outcome, event)
    request = check_request(study, target, terms, FitOptions(level, errors, cluster, weights, weights_are))
    check_kind(request.errors)
    inside = target.values if request.used is None else target.values[request.used]
    if inside.min() == inside.max():
        label = target.levels[int(inside[0])].label
        raise FitError(f"The outcome `{outcome}` is `{label}` in every row used, so there is nothing to explain.")
    fit = _estimate(target, request.terms(), request, study.name, firth)
    _remark_on_events(fit)
    return fit


def refit(fit: LogisticFit, parts: tuple[Term, ...]) -> LogisticFit:
    """Fit other terms on the rows of a fit.

    Parameters
    ----------
    fit : LogisticFit
        The fit.
    parts : tuple of Term
        The terms.

    Returns
    -------
    LogisticFit
        The other fit.

    Raises
    ------
    SeparationError, CollinearityError, FitError
        As `fit_logistic`.
    """
    clustered = fit.cluster is not None
    kind = "classical" if clustered else fit.errors.kind
    request = Request(
        (), (), fit.used, fit.sample, fit.weights, fit.cluster, kind, fit.level, fit.identifier, fit.possible_cluster
    )
    return _estimate(fit.outcome, parts, request, fit.data_name, bool(fit.penalty))


def _estimate(target: Column, parts: tuple[Term, ...], request: Request, name: str, firth: bool) -> LogisticFit:
    blocks = [t.block() for t in parts]
    happened = (target.values == 1).astype(np.float64)
    moments = gather_sums(blocks, happened, request.used)
    columns = design_columns(parts, moments)
    check_room(request.sample.used, 1 + len(columns))
    if not firth:
        check_levels(moments, parts, target)
    rows = Rows(blocks, happened, request.used, request.heavy, moments)
    try:
        found = _climb(rows, columns, firth, parts, target)
        return _finished(name, target, parts, request, rows, columns, found, firth)
    except Dependent:
        raise _collinearity(blocks, happened, request.used, columns, parts) from None


def _collinearity(
    blocks: Sequence[Block],
    happened: Array,
    used: NDArray[np.bool_] | None,
    columns: NDArray[np.intp],
    parts: Sequence[Term],
) -> FitError:
    """Name the collinearity of the terms, by their moments without the curvature."""
    every = [*blocks, Block(1, multiplier=happened)]
    moments = gather(every, len(happened), used)
    try:
        solve(moments, every, used, len(happened), columns)
    except Dependent as finding:
        return collinearity_error(finding, moments, parts)
    return FitError(
        "The likelihood is flat in some direction, to within rounding, though the terms are not collinear: it is all but foretold. Leave "
        'terms out or merge levels, or ask for penalised likelihood (penalty="firth").'
    )


def two_level_outcome(study: Study, name: str, event: object) -> Column:
    """Return a yes/no outcome as a group of two levels, the event the second.

    Parameters
    ----------
    study : Study
        The data.
    name : str
        The name of the outcome.
    event : object
        The event; None for what the codebook says, or 1 of 0 and 1.

    Returns
    -------
    Column
        A group of two levels.

    Raises
    ------
    ColumnError
        If there is no such column, it cannot be used, or has not two levels.
    LevelError
        If the event is not one of them.
    FitError
        If the event is not named and not known.
    """
    column = study.column(name)
    if column.fault:
        raise ColumnError(column.fault)
    if column.is_categorical:
        occurring = [v.label for k, v in enumerate(column.levels) if column.counts[k]]
    else:
        check_usable(column)
        occurring = [short(v, 12) for v in few_values(column.values[column.present], 7)]
    if len(occurring) > 2:
        many = (
            f"{len(occurring)} levels"
            if column.is_categorical
            else f"{'more than 6' if len(occurring) > 6 else len(occurring)} values"
        )
        raise ColumnError(
            f"The outcome `{name}` has {many} ({', '.join(quoted(occurring[:4]))}{', …' if len(occurring) > 4 else ''}), and a logistic "
            f"regression needs two: make a yes/no column of it (`event`, `split_at` or `merge_levels`), or fit a linear regression to a numeric column."
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
        else:
            raise FitError(
                f"Which of {listed(quoted(occurring), 'or')} of `{name}` is the event whose odds are to be modelled? Say event={occurring[-1]!r} or "
                f"event={occurring[0]!r} (on the command line --event)."
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


def _beginning(rows: Rows) -> Theta:
    """Return where to begin: no effects at all."""
    inside = slice(None) if rows.used is None else rows.used
    rate = float(np.average(rows.event[inside], weights=None if rows.weights is None else rows.weights[inside]))
    return Theta(math.log(rate / (1 - rate)), np.zeros(rows.moments.cross.shape[0]))


def _climb(rows: Rows, columns: NDArray[np.intp], firth: bool, parts: Sequence[Term], target: Column) -> Maximum:
    """Go to the maximum, from that of a part of the rows where they are many."""
    inside = len(rows.event) if rows.used is None else int(np.count_nonzero(rows.used))
    few = _from_a_part(rows, columns) if inside > _MANY_ROWS and not firth else None
    if few is not None and few.information is not None:
        found = maximise(rows, columns, few.point.theta, information=few.information)
    else:
        found = maximise(rows, columns, _beginning(rows), firth=firth)
    if found.status == "moving":
        separated, decided, of = separates(rows, columns, found.last_step)
        if separated:
            raise separation_error(rows, columns, found.last_step, parts, target, decided, of)
        found = maximise(rows, columns, found.point.theta, firth=firth, look=False)
    if found.status == "moving":
        raise FitError(
            f"The steps towards the largest likelihood did not end (after {found.steps}; the largest linear predictor is "
            f'{short(found.point.farthest)}). Leave terms out or merge levels, or ask for penalised likelihood (penalty="firth").'
        )
    if found.status == "stalled":
        remark(
            "The last steps towards the largest likelihood brought nothing although its slope is not 0: rounding stands in the way, so "
            "read fewer digits. Centring and rescaling numeric columns may mend it."
        )
    return found


def _from_a_part(rows: Rows, columns: NDArray[np.intp]) -> Maximum | None:
    inside = len(rows.event) if rows.used is None else int(np.count_nonzero(rows.used))
    step = inside // _SAMPLE_ROWS
    few = rows.part(slice(None, None, step) if rows.used is None else np.flatnonzero(rows.used)[::step])
    try:
        found = maximise(few, columns, _beginning(few), done=_NEAR_ENOUGH)
    except (Dependent, np.linalg.LinAlgError, ZeroDivisionError, ValueError):
        return None  # a level, or the event, is missing in the part
    if found.status != "converged" or found.information is None:
        return None
    information = replace(found.information, root=found.information.root * math.sqrt(len(few.event) / inside))
    return replace(found, information=information)


def _finished(
    name: str,
    target: Column,
    parts: tuple[Term, ...],
    request: Request,
    rows: Rows,
    columns: NDArray[np.intp],
    found: Maximum,
    firth: bool,
) -> LogisticFit:
    """Take the curvature at the end with all care, and make the last step."""
    information = information_at(rows, columns, rough=False)
    step = information.root @ (information.root.T @ gradient_of(rows, found.point, information, columns, firth))
    theta = found.point.theta.moved(columns, step)
    solution = replace(
        information.solution,
        coefficients=theta.slopes[columns],
        lower=np.zeros(len(columns)),
        at_centres=(theta.start, 0.0),
        explained=math.nan,
        residual=math.nan,
        rows=request.sample.used,
    )
    errors = _errors(request, rows, information, len(columns))
    request.remark_on_clusters(errors)
    return LogisticFit(
        outcome=target,
        parts=parts,
        sample=request.sample,
        level=request.level,
        data_name=name,
        moments=rows.moments,
        solution=solution,
        used=request.used,
        errors=errors,
        cluster=request.cluster,
        weights=request.weights,
        possible_cluster="" if firth else request.possible_cluster,
        identifier=request.identifier,
        theta=theta,
        at_end=found.point,
        objective=found.objective,
        status=found.status,
        steps=found.steps,
        penalty="firth" if firth else "",
        likelihood=rows,
        information=information,
    )


def _errors(request: Request, rows: Rows, information: Information, p: int) -> Errors:
    """Return what the standard errors rest on: the curvature, or squared scores as in a linear model."""
    if request.errors == "classical" and request.cluster is None:
        return Errors("classical", math.inf)
    whitened = Whitened(information.moments, information.blocks, information.solution, rows.used, rows.curvature, None)
    repeated = request.weights is not None and request.weights.kind == "frequency"

    def scored() -> Iterator[ScoredRows]:
        for chunk, Q, _, curvature in whitened.chunks():
            score = rows.score[chunk]
            leverage = np.einsum("ij,ij->i", Q, Q) * curvature if request.errors in LEVERED else score
            times = None
            if repeated and rows.weights is not None:
                times = rows.weights[chunk]
                score, leverage = score / times, leverage / times
            yield ScoredRows(chunk, Q, score, leverage, times)

    n = request.sample.used
    if repeated and request.heavy is not None:
        n = round(float(request.heavy.sum()))
    found = sandwich(request.errors, request.cluster, scored(), n, n - p - 1, p)
    return replace(found, df=math.inf)


def _remark_on_events(fit: LogisticFit) -> None:
    """Remark on few events, over all and in single levels."""
    fewer = min(fit.events, fit.sample.used - fit.events)
    which = fit.event if fit.events == fewer else fit.otherwise
    p = len(fit.solution.columns)
    if fewer < FEW_EVENTS * p:
        remark(
            f"Only {count_noun(fewer, 'row')} used {'is' if fewer == 1 else 'are'} `{which}`, {short(fewer / p, 2)} for each of {p} coefficients: "
            f'with fewer than {FEW_EVENTS}, estimates tend to be too far from 0 and intervals unsafe. Use fewer terms, or penalty="firth".'
        )
    for term in fit.parts:
        if term.kind != "categorical":
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
