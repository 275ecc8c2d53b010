"""Standard errors that do not rest on one variance for all rows, or on rows being independent.

References
----------
MacKinnon & White (1985), Journal of Econometrics 29(3), 305-325, doi:10.1016/0304-4076(85)90158-7.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.drawn import DrawnBy
from markbase.core.design.moments import Moments
from markbase.core.design.terms import CodedColumns
from markbase.core.design.weights import Weights
from markbase.core.estimation.fixed_effects import FixedEffects
from markbase.core.estimation.least_squares_solution import Solution
from markbase.core.estimation.whitening import Whitened
from markbase.core.inference.clustered_errors import clustered_errors, nested_in, refuse_crossed
from markbase.core.inference.crossed_clusters import crossed_errors
from markbase.core.inference.dyadic_errors import dyadic_errors, refuse_beyond_dyads
from markbase.core.inference.replicate_errors import replicate_errors
from markbase.core.inference.serial_errors import serial_errors
from markbase.core.inference.standard_errors import ALONE, Errors, Over, ScoredRows
from markbase.core.inference.strata import stratified_errors
from markbase.core.rows.sums import total_of

T = TypeVar("T")
Array = NDArray[np.float64]


def errors_of(
    kind: str,
    drawn: DrawnBy,
    moments: Moments,
    blocks: Sequence[CodedColumns],
    solution: Solution,
    used: NDArray[np.bool_] | None,
    weights: Weights | None = None,
    fixed_effects: FixedEffects | None = None,
    residuals: Array | None = None,
) -> Errors:
    """Compute what the standard errors need beyond the moments, from `residuals` of another outcome if these are given.

    With e the residuals and h the leverages, scores are weighted by e² (HC0), e²·n/(n − k) (HC1), e²/(1 − h) (HC2), e²/(1 −
    h)² (HC3, also called ``robust``); with clusters they are those of `clustered_errors`, of `crossed_errors` or of `dyadic_errors`, with strata taken within each, with a time those of `serial_errors`, with replicate weights those of `replicate_errors`. Levels
    taken out that each lie in one cluster (of either kind) are not counted among the coefficients: what they take from a cluster is taken from
    its score (Cameron & Miller 2015, doi:10.3368/jhr.50.2.317, section III.B). Raises a `FitError` if there are
    fewer than two clusters, or one in a stratum, or levels taken out lie in several and each is to be left out.
    """
    n, p = moments.rows, len(solution.columns)
    rest = n - p - (1 if fixed_effects is None else fixed_effects.levels)
    if not drawn.clusters and kind == "classical":
        return Errors("classical", rest)
    replicates = weights.replicates if weights is not None and kind == "replicates" else None
    over = scored_rows(moments, blocks, solution, used, weights, fixed_effects, residuals)
    if drawn.cluster is not None and fixed_effects is not None:
        if kind == "dyadic" and drawn.crossed is not None:
            refuse_beyond_dyads(over, drawn.cluster, drawn.crossed, fixed_effects)
            rest = n - p - 1
        elif any(nested_in(column, fixed_effects, over) for column in drawn.clusters):
            rest = n - p - 1
        elif kind == "CR3":
            refuse_crossed(drawn.cluster, fixed_effects)
    if replicates is not None:
        return replicate_errors(over, replicates, p)
    return sandwich(kind, drawn, over, n, rest, p)


def scored_rows(
    moments: Moments,
    blocks: Sequence[CodedColumns],
    solution: Solution,
    used: NDArray[np.bool_] | None,
    weights: Weights | None,
    fixed_effects: FixedEffects | None,
    residuals: Array | None = None,
) -> Over:
    """Return what applies a function to the scored rows of every part of a linear fit, and to its share of arrays; scored by `residuals` if given."""
    whitened = Whitened(moments, blocks, solution, used, weights.values if weights else None, fixed_effects)
    repeated = weights is not None and weights.kind == "frequency"

    def scored(rows: Whitened, others: Array | None) -> Iterator[ScoredRows]:
        # a row that stands for several is several rows; a row that is weighted has a weighted score
        for chunk, Q, own, w in rows.chunks():
            residual = own if others is None else others[chunk]
            leverage = rows.leverages(chunk, Q)
            yield ScoredRows(
                chunk,
                Q,
                residual if repeated else residual * w,
                leverage if repeated else leverage * w,
                w,
                w if repeated else None,
            )

    def over(function: Callable[..., T], *trees: Any) -> Iterator[T]:
        def of_part(rows: Whitened, others: Array | None, *more: Any) -> T:
            return function(scored(rows, others), *more)

        return whitened.over(of_part, residuals, *trees)

    return over


def sandwich(kind: str, drawn: DrawnBy, over: Over, n: int, rest: int, p: int) -> Errors:
    """Sum squared scores, as `errors_of` has them. A row that alone decides a coefficient has no residual, and so no part.

    `n`, `rest` and `p` are rows, rows less coefficients, and columns without the intercept.
    """
    if drawn.cluster is not None and drawn.crossed is not None:
        two_ways = dyadic_errors if kind == "dyadic" else crossed_errors
        return two_ways(over, drawn.cluster, drawn.crossed, n, rest, p)
    if drawn.cluster is not None:
        return clustered_errors(kind, over, drawn.cluster, drawn.strata, n, rest, p)
    if drawn.time is not None:
        return serial_errors(over, drawn.time, n, rest, p)
    if drawn.strata is not None:
        return stratified_errors(over, drawn.strata, n, rest, p)
    kind = "HC3" if kind == "robust" else kind

    def squared(rows: Iterator[ScoredRows]) -> tuple[Array, list[Array]]:
        middle = np.zeros((p + 1, p + 1))
        fitted = []
        for _, Q, score, leverage, share, times in rows:
            weight = score**2 if times is None else score**2 * times
            room = 1 - leverage
            alone = room < ALONE
            if alone.any():
                directions = Q[alone] * np.sqrt(share[alone])[:, None]
                fitted.append(directions / np.linalg.norm(directions, axis=1)[:, None])
                weight[alone], room[alone] = 0.0, 1.0
            if kind in ("HC2", "HC3"):
                weight = weight / room ** (1 if kind == "HC2" else 2)
            middle += np.dot((Q * weight[:, None]).T, Q)
        return middle, fitted

    found = list(over(squared))
    middle = total_of(part for part, _ in found)
    fitted = [directions for _, part in found for directions in part]
    if kind == "HC1":
        middle *= n / rest
    return Errors(kind, rest, middle=middle, fitted=np.vstack(fitted) if fitted else None)
