"""Estimating a logistic regression: the maximum of its likelihood, found with care or refused in words."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.coefficient_map import components_of, design_columns
from markbase.core.design.cross_products import gather, gather_sums
from markbase.core.design.moments import Moments
from markbase.core.design.options import Request, check_room
from markbase.core.design.terms import CodedColumns, Term
from markbase.core.design.weights import Weights
from markbase.core.errors import FitError, remark
from markbase.core.estimation.beginning import FirstPass, from_a_part, many_rows, no_effects
from markbase.core.estimation.collinearity import collinearity_error
from markbase.core.estimation.least_squares import solve
from markbase.core.estimation.least_squares_solution import Dependent, Solution
from markbase.core.estimation.likelihood import Likelihood
from markbase.core.estimation.likelihood_points import Passed, Point, Theta
from markbase.core.estimation.newton import Information, Maximum, gradient_of, information_at, maximise
from markbase.core.estimation.separation import check_levels, find_separation, separation_error
from markbase.core.estimation.whitening import Whitened
from markbase.core.formatting import short
from markbase.core.inference.covariance import sandwich
from markbase.core.inference.replicate_errors import replicate_errors
from markbase.core.inference.standard_errors import Errors, Over, ScoredRows, remark_on_clusters
from markbase.core.study.column import Column

T = TypeVar("T")
Array = NDArray[np.float64]
_UNLUCKY = 4.0
"""A first step of the maximum of a part of the rows that is as many times as long, squared, as is expected tells that the part is unlike the others."""


@dataclass(frozen=True, eq=False)
class LogisticEstimate:
    """The maximum, and what a fit is made of."""

    moments: Moments
    """Sums of the columns."""
    solution: Solution
    """The inner coefficients, and a factor of their covariance."""
    errors: Errors
    """What the standard errors rest on."""
    theta: Theta
    """The inner coefficients."""
    at_end: Point
    """The likelihood there."""
    passed: Passed
    """What each row contributes there."""
    objective: float
    """What was maximised."""
    status: str
    """``converged`` or ``stalled``."""
    steps: int
    """Newton steps taken."""
    likelihood: Likelihood
    """The rows."""
    information: Information
    """The curvature there."""


def estimate(target: Column, terms: tuple[Term, ...], request: Request, firth: bool) -> LogisticEstimate:
    """Estimate a logistic regression, with or without Firth's penalty, of terms made for the rows of the request.

    Raises as `fit_logistic`.
    """
    blocks = [c.coded() for c in components_of(terms)]
    happened = (target.values == 1).astype(np.float64)
    first = None if firth else FirstPass.of(terms, blocks, happened, request.used, request.heavy)
    moments = gather_sums(blocks, happened, request.used) if first is None else first.moments
    if moments.cross[0, -1] in (0, moments.cross[0, 0]):
        label = target.levels[int(moments.cross[0, -1] > 0)].label
        raise FitError(f"The outcome `{target.name}` is `{label}` in every row used, so there is nothing to explain.")
    columns = design_columns(terms, moments)
    check_room(request.counted_rows, 1 + len(columns), request.sample.losses)
    if not firth:
        check_levels(moments, terms, target)
    rows = Likelihood(blocks, happened, request.used, request.heavy, moments)
    try:
        found = _climb(rows, columns, firth, terms, target, first)
        return _finished(request, rows, columns, found, firth)
    except Dependent:
        raise _collinearity(blocks, happened, request.used, columns, terms) from None


def _collinearity(
    blocks: Sequence[CodedColumns],
    happened: Array,
    used: NDArray[np.bool_] | None,
    columns: NDArray[np.intp],
    parts: Sequence[Term],
) -> FitError:
    """Name the collinearity of the terms, by their moments without the curvature."""
    every = [*blocks, CodedColumns(1, multiplier=happened)]
    moments = gather(every, len(happened), used)
    try:
        solve(moments, every, used, len(happened), columns)
    except Dependent as finding:
        return collinearity_error(finding, moments, parts)
    return FitError(
        "The likelihood is flat in some direction, to within rounding, though the terms are not collinear: it is all but foretold. Leave "
        "terms out or merge levels, or ask for penalised likelihood (penalty firth)."
    )


def _climb(
    rows: Likelihood,
    columns: NDArray[np.intp],
    firth: bool,
    parts: Sequence[Term],
    target: Column,
    first: FirstPass | None,
) -> Maximum:
    """Go to the maximum, from that of a part of the rows where they are many."""
    begin = None if first is None else first.at(columns)
    inside = 0 if firth or begin is not None else many_rows(rows.event, rows.used)
    few = from_a_part(rows, columns, inside) if inside else None
    if begin is not None and first is not None:
        found = maximise(rows, columns, begin[0].theta, begin=begin, bend=first.bend)
    elif few is not None:
        expected = (len(columns) + 1) * inside / len(few.passed.curvature)
        found = maximise(rows, columns, few.point.theta, information=few.information, trusted=_UNLUCKY * expected)
    else:
        found = maximise(rows, columns, no_effects(rows), firth=firth)
    if found.status == "moving":
        separation = find_separation(rows, columns, found.point.theta)
        if separation is not None:
            raise separation_error(rows, columns, separation, parts, target)
        found = maximise(rows, columns, found.point.theta, firth=firth, look=False)
    if found.status == "moving":
        raise FitError(
            f"The steps towards the largest likelihood did not end (after {found.steps}; the largest linear predictor is "
            f"{short(found.point.farthest)}). Leave terms out or merge levels, or ask for penalised likelihood (penalty firth)."
        )
    if found.status == "stalled":
        remark(
            "The last steps towards the largest likelihood brought nothing although its slope is not 0: rounding stands in the way, so "
            "read fewer digits. Centring and rescaling numeric columns may mend it."
        )
    return found


def _finished(
    request: Request, rows: Likelihood, columns: NDArray[np.intp], found: Maximum, firth: bool
) -> LogisticEstimate:
    """Take the curvature at the end with all care, and make the last step."""
    information = information_at(rows, found.passed, columns, rough=False)
    gradient = gradient_of(rows, found.point, found.passed, information, columns, firth)
    step = information.root @ (information.root.T @ gradient)
    theta = found.point.theta.moved(columns, step)
    own = information.solution
    solution = replace(
        own,
        coefficients=theta.slopes[columns],
        lower=np.zeros(len(columns)),
        at_centres=(theta.start, 0.0),
        whitened=own.factor @ theta.slopes[columns],
        explained=math.nan,
        residual=math.nan,
        rows=request.sample.used,
    )
    errors = _errors(request, rows, found.passed, information, len(columns))
    remark_on_clusters(errors)
    return LogisticEstimate(
        moments=rows.moments,
        solution=solution,
        errors=errors,
        theta=theta,
        at_end=found.point,
        passed=found.passed,
        objective=found.objective,
        status=found.status,
        steps=found.steps,
        likelihood=rows,
        information=information,
    )


def _errors(request: Request, rows: Likelihood, passed: Passed, information: Information, p: int) -> Errors:
    """Return what the standard errors rest on: the curvature, or squared scores as in a linear model, with t where clusters are what counts."""
    if request.errors == "classical" and not request.drawn_by.clusters:  # within strata they never are
        return Errors("classical", math.inf)
    n = request.counted_rows
    over = scored_rows(rows, passed, information, request.weights)
    if request.weights is not None and request.weights.replicates is not None:
        replicates = request.weights.replicates
        return replicate_errors(over, replicates, p, rows.event, rows.weights, likelihood=True)
    errors = sandwich(request.errors, request.drawn_by, over, n, n - p - 1, p)
    return errors if errors.rest_on_few else replace(errors, df=math.inf)


def whitened_columns(rows: Likelihood, passed: Passed, information: Information) -> Whitened:
    """Return the columns of a model, whitened by the curvature of the likelihood."""
    return Whitened(information.moments, information.blocks, information.solution, rows.used, passed.curvature, None)


def scored_rows(rows: Likelihood, passed: Passed, information: Information, weights: Weights | None) -> Over:
    """Return what applies a function to the scored rows of every part, and to its share of arrays."""
    whitened = whitened_columns(rows, passed, information)
    repeated = weights is not None and weights.kind == "frequency"

    def scored(own: Whitened, scores: Array, often: Array | None) -> Iterator[ScoredRows]:
        for chunk, Q, _, curvature in own.chunks():
            score = scores[chunk]
            leverage = np.einsum("ij,ij->i", Q, Q) * curvature
            times = None
            if repeated and often is not None:
                times = often[chunk]
                score, leverage = score / times, leverage / times
            yield ScoredRows(chunk, Q, score, leverage, curvature, times)

    def over(function: Callable[..., T], *trees: Any) -> Iterator[T]:
        def of_part(own: Whitened, scores: Array, often: Array | None, *more: Any) -> T:
            return function(scored(own, scores, often), *more)

        return whitened.over(of_part, passed.score, rows.weights, *trees)

    return over
