"""Standard errors that do not rest on one variance for all rows, or on rows being independent.

References
----------
MacKinnon & White (1985), Journal of Econometrics 29(3), 305-325, doi:10.1016/0304-4076(85)90158-7.
Liang & Zeger (1986), Biometrika 73(1), 13-22, doi:10.1093/biomet/73.1.13.
Cameron & Miller (2015), Journal of Human Resources 50(2), 317-372, doi:10.3368/jhr.50.2.317.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any, NamedTuple, TypeVar

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.moments import Moments
from markbase.core.design.terms import CodedColumns
from markbase.core.design.weights import Weights
from markbase.core.errors import FitError, MarkbaseError, count_noun, listed, near, quoted, remark
from markbase.core.estimation.fixed_effects import FixedEffects
from markbase.core.estimation.least_squares_solution import Solution
from markbase.core.estimation.whitening import Whitened
from markbase.core.rows.sums import total_of, totals_of
from markbase.core.study.column import Column

T = TypeVar("T")
Array = NDArray[np.float64]

KINDS_OF_ERRORS = ("HC0", "HC1", "HC2", "HC3", "classical", "robust")
_ALONE = 1e-9
_TOUCHED = 1e-8
_CELLS = 1 << 22
FEW_CLUSTERS = 30
"""With fewer clusters than this, clustered errors tend to be too small."""


@dataclass(frozen=True, eq=False)
class Errors:
    """What the standard errors rest on."""

    kind: str
    """``classical``, ``HC0`` to ``HC3``, or ``clustered``."""
    df: float
    """Degrees of freedom of t and of the denominator of F: rows less coefficients, or clusters less one."""
    cluster: str = ""
    """The column of the clusters; empty for none."""
    clusters: int = 0
    """How many clusters there are; 0 for none."""
    middle: Array | None = None
    """Shape (p + 1, p + 1): the sum of squared scores in whitened columns, intercept first; None for classical."""
    uncancelled: Array | None = None
    """Shape (p + 1, p + 1): the same of single rows, where scores are summed within clusters; None otherwise."""
    fitted: Array | None = None
    """Shape (k, p + 1): whitened directions in which a row, or a cluster, is fitted exactly; None where there are none."""

    def touches(self, roots: Array) -> NDArray[np.bool_]:
        """Return which combinations rest on rows or clusters that are fitted exactly, whose residuals say nothing.

        Parameters
        ----------
        roots : ndarray, shape (m, p + 1)
            The combinations in whitened columns.

        Returns
        -------
        ndarray of bool, shape (m,)
            Where there is no robust or clustered standard error.
        """
        if self.fitted is None:
            return np.zeros(len(roots), dtype=bool)
        share = np.einsum("ij,ij->i", roots @ self.fitted.T, roots @ self.fitted.T)
        touched: NDArray[np.bool_] = share > _TOUCHED * np.einsum("ij,ij->i", roots, roots)
        return touched

    @property
    def unknown_words(self) -> str:
        """Why some combinations have no standard error, as a clause."""
        if self.clusters:
            return f"a level of `{self.cluster}`, or a column that is constant within its levels, is fitted exactly: no clustered error of it exists"
        return f"a row that decides a coefficient alone is fitted exactly: no {self.kind} error of it exists"

    @property
    def words(self) -> str:
        """What the standard errors rest on, in a few words."""
        if self.kind == "classical":
            if np.isinf(self.df):
                return "errors from the likelihood: rows independent, the form of the model right"
            return "classical errors: one variance for all rows, rows independent"
        if self.kind == "clustered":
            return f"errors clustered by `{self.cluster}` ({self.clusters:,} clusters): rows within one may go together"
        return f"{self.kind} errors: variance may differ from row to row"


def errors_of(
    kind: str,
    cluster: Column | None,
    moments: Moments,
    blocks: Sequence[CodedColumns],
    solution: Solution,
    used: NDArray[np.bool_] | None,
    weights: Weights | None = None,
    fixed_effects: FixedEffects | None = None,
) -> Errors:
    """Compute what the standard errors need beyond the moments.

    With e the residuals and h the leverages, scores are weighted by e² (HC0), e²·n/(n − k) (HC1), e²/(1 − h) (HC2), e²/(1 −
    h)² (HC3, also called ``robust``); with a `cluster` they are summed within its levels first, and the result multiplied
    by G/(G − 1)·(n − 1)/(n − k). Raises a `FitError` if there are fewer than two clusters.
    """
    check_kind(kind)
    n, p = moments.rows, len(solution.columns)
    rest = n - p - (1 if fixed_effects is None else fixed_effects.levels)
    if cluster is None and kind == "classical":
        return Errors("classical", rest)
    whitened = Whitened(moments, blocks, solution, used, weights.values if weights else None, fixed_effects)
    repeated = weights is not None and weights.kind == "frequency"

    def scored(rows: Whitened) -> Iterator[ScoredRows]:
        # a row that stands for several is several rows; a row that is weighted has a weighted score
        for chunk, Q, residual, w in rows.chunks():
            leverage = rows.leverages(chunk, Q)
            yield ScoredRows(
                chunk,
                Q,
                residual if repeated else residual * w,
                leverage if repeated else leverage * w,
                w,
                w if repeated else None,
            )

    return sandwich(kind, cluster, partial(scored_over, whitened, scored), n, rest, p)


def scored_over(
    whitened: Whitened, scored: Callable[..., Iterator[ScoredRows]], function: Callable[..., T], *trees: Any
) -> Iterator[T]:
    """Apply a function to the scored rows of every part, and to the part's share of arrays."""

    def of_part(rows: Whitened, *more: Any) -> T:
        return function(scored(rows), *more)

    return whitened.over(of_part, *trees)


def check_kind(kind: str) -> None:
    """Refuse a kind of errors that does not exist."""
    if kind not in KINDS_OF_ERRORS:
        raise MarkbaseError(f"There are no errors `{kind}`; there are {listed(quoted(KINDS_OF_ERRORS))}.{_close(kind)}")


class ScoredRows(NamedTuple):
    """What some rows contribute to the errors."""

    chunk: slice | NDArray[np.intp]
    """Which rows."""
    Q: Array
    """Shape (rows, p + 1): their whitened columns."""
    score: Array
    """Shape (rows,): by what a row's columns are multiplied in its score."""
    leverage: Array
    """Shape (rows,): their leverages."""
    share: Array
    """Shape (rows,): by what products of their columns are weighted, so that over all rows they sum to the identity."""
    times: Array | None
    """Shape (rows,): for how many rows each stands; None for one."""


def sandwich(
    kind: str, cluster: Column | None, over: Callable[..., Iterator[Any]], n: int, rest: int, p: int
) -> Errors:
    """Sum squared scores, as `errors_of` has them. A row that alone decides a coefficient has no residual, and so no part.

    `over` takes a function and arrays of one value a row, and applies the function to every part of the rows used: an
    iterator of `ScoredRows`, and the part's share of the arrays; it yields what the function returns. `n`, `rest` and `p`
    are rows, rows less coefficients, and columns without the intercept.
    """
    if cluster is not None:
        return _clustered(over, cluster, n, rest, p)
    kind = "HC3" if kind == "robust" else kind

    def squared(rows: Iterator[ScoredRows]) -> tuple[Array, list[Array]]:
        middle = np.zeros((p + 1, p + 1))
        fitted = []
        for _, Q, score, leverage, share, times in rows:
            weight = score**2 if times is None else score**2 * times
            room = 1 - leverage
            alone = room < _ALONE
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


def _close(kind: str) -> str:
    close = near(kind, KINDS_OF_ERRORS)
    return close if close.startswith(" Did") else ""


def _clustered(over: Callable[..., Iterator[Any]], cluster: Column, n: int, rest: int, p: int) -> Errors:
    levels = len(cluster.levels)

    def summed(rows: Iterator[ScoredRows], clusters: NDArray[np.integer]) -> tuple[Array, Array, Array, Array]:
        sums, traces = np.zeros((levels, p + 1)), np.zeros(levels)
        seen, uncancelled = np.zeros(levels), np.zeros((p + 1, p + 1))
        for chunk, Q, score, _, share, times in rows:
            codes = clusters[chunk].astype(np.intp)
            scores = Q * (score if times is None else score * times)[:, None]
            np.add.at(sums, codes, scores)
            uncancelled += np.dot(scores.T, scores)
            traces += np.bincount(codes, weights=np.einsum("ij,ij->i", Q, Q) * share, minlength=levels)
            seen[codes] = 1.0
        return sums, traces, seen, uncancelled

    sums, traces, seen, uncancelled = totals_of(over(summed, cluster.values))
    clusters = int(np.count_nonzero(seen))
    if clusters < 2:
        raise FitError(
            f"`{cluster.name}` has {count_noun(clusters, 'cluster')} in the rows used; clustered errors need at least two."
        )
    middle = sums.T @ sums * (clusters / (clusters - 1) * (n - 1) / rest)
    fitted = _fitted_within(over, cluster, np.flatnonzero(traces > 1 - _ALONE), p)
    return Errors("clustered", clusters - 1, cluster.name, clusters, middle, uncancelled, fitted)


def _fitted_within(
    over: Callable[..., Iterator[Any]], cluster: Column, candidates: NDArray[np.intp], p: int
) -> Array | None:
    """Return the whitened directions that the rows of one cluster decide alone, shape (k, p + 1)."""
    found = []
    most = max(1, _CELLS // (p + 1) ** 2)
    for start in range(0, len(candidates), most):
        some = candidates[start : start + most]
        place = np.full(len(cluster.levels), -1)
        place[some] = np.arange(len(some))
        size = len(some)

        def multiplied(
            rows: Iterator[ScoredRows], clusters: NDArray[np.integer], place: NDArray[np.intp] = place, size: int = size
        ) -> Array:
            products = np.zeros((size, p + 1, p + 1))
            for chunk, Q, _, _, share, _ in rows:
                at = place[clusters[chunk]]
                for k in np.unique(at[at >= 0]):
                    inside = Q[at == k] * np.sqrt(share[at == k])[:, None]
                    products[k] += inside.T @ inside
            return products

        values, vectors = np.linalg.eigh(total_of(over(multiplied, cluster.values)))
        found += [vectors[k][:, values[k] > 1 - _ALONE].T for k in range(len(some))]
    whole = np.vstack(found) if found else np.zeros((0, p + 1))
    return whole if len(whole) else None


def remark_on_clusters(errors: Errors) -> None:
    """Remark on clusters that are few."""
    if 0 < errors.clusters < FEW_CLUSTERS:
        remark(
            f"`{errors.cluster}` has only {errors.clusters} clusters: clustered errors tend to be too small with fewer than "
            f"{FEW_CLUSTERS}, so read intervals as narrower than they should be."
        )
