"""Standard errors that do not rest on one variance for all rows, or on rows being independent.

References
----------
MacKinnon & White (1985), Journal of Econometrics 29(3), 305-325, doi:10.1016/0304-4076(85)90158-7.
Liang & Zeger (1986), Biometrika 73(1), 13-22, doi:10.1093/biomet/73.1.13.
Cameron & Miller (2015), Journal of Human Resources 50(2), 317-372, doi:10.3368/jhr.50.2.317.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.cross_products import row_chunks
from markbase.core.design.moments import Moments
from markbase.core.design.terms import Block
from markbase.core.errors import FitError, MarkbaseError, count_noun, listed, near, quoted
from markbase.core.estimation.fixed_effects import FixedEffects
from markbase.core.estimation.least_squares_solution import Solution
from markbase.core.study.column import Column

Array = NDArray[np.float64]

LEVERED = ("HC2", "HC3", "robust")
"""Kinds of errors that look at leverages."""
KINDS_OF_ERRORS = ("HC0", "HC1", "HC2", "HC3", "classical", "robust")
_ALONE = 1e-9
FEW_CLUSTERS = 30
"""With fewer clusters than this, clustered errors tend to be too small."""


@dataclass(frozen=True, eq=False)
class Weights:
    """With how much each row counts."""

    kind: str
    """``frequency`` (a row stands for several alike) or ``sampling`` (it stands for others who were not asked)."""
    column: str
    """The column they are from."""
    values: Array
    """Shape (rows,): as given for frequencies; for sampling, scaled so that the rows used have mean 1."""

    @property
    def words(self) -> str:
        """What they are, in a few words."""
        if self.kind == "frequency":
            return f"frequencies from `{self.column}`: each row counts as so many rows"
        return f"sampling weights from `{self.column}`, scaled to mean 1: estimates are for those the sample stands for"


def take_weights(column: Column, kind: str, used: NDArray[np.bool_] | None) -> Weights:
    """Check weights, and scale them where they are relative.

    Parameters
    ----------
    column : Column
        A numeric column.
    kind : str
        ``frequency`` or ``sampling``.
    used : ndarray of bool, shape (rows,), or None
        The rows used.

    Returns
    -------
    Weights
        The weights; 0 for rows not used.

    Raises
    ------
    MarkbaseError
        If there is no such kind.
    FitError
        For a weight that is not positive, or a frequency that is no whole number.
    """
    if kind not in ("frequency", "sampling"):
        raise MarkbaseError(f"There are no weights `{kind}`; there are `frequency` and `sampling`.")
    values = column.values if used is None else np.where(used, column.values, 0.0)
    taken = values if used is None else values[used]
    wrong = taken <= 0 if kind == "sampling" else (taken <= 0) | (taken != np.round(taken))
    if wrong.any():
        rule = "positive" if kind == "sampling" else "whole numbers of 1 or more"
        raise FitError(
            f"The weights in `{column.name}` must be {rule}, and {count_noun(int(wrong.sum()), 'row')} used "
            f"{'is' if wrong.sum() == 1 else 'are'} not ({taken[wrong][0]:g}); blank such rows, or use another column."
        )
    return Weights(kind, column.name, values / taken.mean() if kind == "sampling" else values)


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
    blocks: Sequence[Block],
    solution: Solution,
    used: NDArray[np.bool_] | None,
    weights: Weights | None = None,
    fixed_effects: FixedEffects | None = None,
) -> Errors:
    """Compute what the standard errors need beyond the moments.

    Parameters
    ----------
    kind : str
        ``classical``, ``robust`` (HC3), ``HC0``, ``HC1``, ``HC2`` or ``HC3``; disregarded with a cluster.
    cluster : Column, optional
        A group whose levels are the clusters.
    moments, blocks, solution, used
        The fit.
    weights : Weights, optional
        With how much each row counts.
    within : Within, optional
        The levels taken out.

    Returns
    -------
    Errors
        With e the residuals and h the leverages, scores are weighted by e² (HC0), e²·n/(n − k) (HC1),
        e²/(1 − h) (HC2), e²/(1 − h)² (HC3); clustered scores are summed within clusters first, and
        the result multiplied by G/(G − 1)·(n − 1)/(n − k).

    Raises
    ------
    MarkbaseError
        If there is no such kind.
    FitError
        If there are fewer than two clusters, or a row alone decides a coefficient, so that HC2 and HC3
        are not defined.
    """
    check_kind(kind)
    n, p = moments.rows, len(solution.columns)
    rest = n - p - (1 if fixed_effects is None else fixed_effects.levels)
    if cluster is None and kind == "classical":
        return Errors("classical", rest)
    whitened = Whitened(moments, blocks, solution, used, weights.values if weights else None, fixed_effects)
    repeated = weights is not None and weights.kind == "frequency"

    def rows() -> Iterator[ScoredRows]:
        # a row that stands for several is several rows; a row that is weighted has a weighted score
        for chunk, Q, residual, w in whitened.chunks():
            leverage = whitened.leverages(chunk, Q) if kind in LEVERED else residual
            yield ScoredRows(
                chunk,
                Q,
                residual if repeated else residual * w,
                leverage if repeated else leverage * w,
                w if repeated else None,
            )

    return sandwich(kind, cluster, rows(), n, rest, p)


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
    """Shape (rows,): their leverages; not looked at but by HC2 and HC3."""
    times: Array | None
    """Shape (rows,): for how many rows each stands; None for one."""


def sandwich(kind: str, cluster: Column | None, rows: Iterator[ScoredRows], n: int, rest: int, p: int) -> Errors:
    """Sum squared scores.

    Parameters
    ----------
    kind : str
        ``robust`` (HC3), ``HC0``, ``HC1``, ``HC2`` or ``HC3``; disregarded with a cluster.
    cluster : Column, optional
        A group whose levels are the clusters.
    rows : iterator of ScoredRows
        All rows used, a chunk at a time.
    n, rest, p : int
        Rows, rows less coefficients, and columns without the intercept.

    Returns
    -------
    Errors
        As `errors_of` has them.

    Raises
    ------
    FitError
        If there are fewer than two clusters, or a row alone decides a coefficient.
    """
    if cluster is not None:
        return _clustered(rows, cluster, n, rest, p)
    kind = "HC3" if kind == "robust" else kind
    middle = np.zeros((p + 1, p + 1))
    for _, Q, score, leverage, times in rows:
        weight = score**2 if times is None else score**2 * times
        if kind in ("HC2", "HC3"):
            room = 1 - leverage
            if room.min() < _ALONE:
                raise FitError(
                    f"{kind} errors are not defined: {count_noun(int((room < _ALONE).sum()), 'row')} alone decides a coefficient "
                    f"(a level with one row, for instance). Merge or leave out such a level, or use HC1."
                )
            weight = weight / room ** (1 if kind == "HC2" else 2)
        middle += (Q * weight[:, None]).T @ Q
    if kind == "HC1":
        middle *= n / rest
    return Errors(kind, rest, middle=middle)


def _close(kind: str) -> str:
    close = near(kind, KINDS_OF_ERRORS)
    return close if close.startswith(" Did") else ""


def _clustered(rows: Iterator[ScoredRows], cluster: Column, n: int, rest: int, p: int) -> Errors:
    sums = np.zeros((len(cluster.levels), p + 1))
    seen = np.zeros(len(cluster.levels), dtype=bool)
    for chunk, Q, score, _, times in rows:
        codes = cluster.values[chunk].astype(np.intp)
        np.add.at(sums, codes, Q * (score if times is None else score * times)[:, None])
        seen[codes] = True
    clusters = int(seen.sum())
    if clusters < 2:
        raise FitError(
            f"`{cluster.name}` has {count_noun(clusters, 'cluster')} in the rows used; clustered errors need at least two."
        )
    middle = sums.T @ sums * (clusters / (clusters - 1) * (n - 1) / rest)
    return Errors("clustered", clusters - 1, cluster.name, clusters, middle)


class Whitened:
    """Rows in coordinates in which the cross-products are the identity, a chunk at a time.

    A row x is told by ``[1/√n, Aᵀ(x − mean)]``, of which the squared length is the leverage. Levels are
    looked up in a small table and never laid out. With levels taken out, the mean is that within the level.
    """

    def __init__(
        self,
        moments: Moments,
        blocks: Sequence[Block],
        solution: Solution,
        used: NDArray[np.bool_] | None,
        weights: Array | None,
        fixed_effects: FixedEffects | None,
    ) -> None:
        self.fixed_effects = fixed_effects
        self.moments, self.blocks, self.solution, self.used = moments, blocks, solution, used
        self.weights = weights

    def _starts(self) -> tuple[Array, Array]:
        """Return what Q and the fit begin from: one row, or one for each level taken out."""
        s = self.solution
        if self.fixed_effects is None:
            offset = (s.at_centres[0] - self.moments.centres[-1]) + s.at_centres[1]
            return -((s.means - s.centres) @ s.root)[None, :], np.array([offset])
        means, outcome = self.fixed_effects.means(self.moments)
        own = means[s.columns].T
        return -(own @ s.root), outcome - own @ s.coefficients

    def leverages(self, chunk: slice | NDArray[np.intp], Q: Array) -> Array:
        """Return the leverage of each row of a chunk, for a weight of 1."""
        leverage: Array = np.einsum("ij,ij->i", Q, Q)
        if self.fixed_effects is not None:
            at = self.fixed_effects.codes[chunk]
            assert self.fixed_effects.sums is not None
            own = np.where(
                self.fixed_effects.rows_at[at] == 1, 0.0, 1 / self.fixed_effects.sums[0, at]
            )  # a lone row adds nothing
            leverage += own - 1 / self.solution.weight
        return leverage

    def chunks(self) -> Iterator[tuple[slice | NDArray[np.intp], Array, Array, Array]]:
        """Yield which rows, their whitened columns (rows, p + 1), residuals (rows,) and weights (rows,)."""
        s, p = self.solution, len(self.solution.columns)
        inner = {int(c): k for k, c in enumerate(s.columns)}
        y = self.blocks[-1].multiplier
        assert y is not None
        y_centre = self.moments.centres[-1]
        start, offset = self._starts()
        size = max(1024, min(1 << 16, (1 << 22) // (p + 1)))
        for chunk in row_chunks(len(y), self.used, size):
            at = 0 if self.fixed_effects is None else self.fixed_effects.codes[chunk]
            residual = (y[chunk] - y_centre) - offset[at]
            Q = np.empty((len(residual), p + 1))
            Q[:, 0] = 1 / np.sqrt(s.weight)
            Q[:, 1:] = start[at]
            for k_block, (block, first) in enumerate(zip(self.blocks[:-1], self.moments.starts[1:], strict=False), 1):
                if block.codes is None:
                    assert block.multiplier is not None
                    k = inner[int(first)]
                    deviation = block.multiplier[chunk] - s.centres[k]
                    Q[:, 1:] += deviation[:, None] * s.root[k]
                    residual -= deviation * s.coefficients[k]
                    continue
                table, effects = np.zeros((block.levels, p)), np.zeros(block.levels)
                for level in range(block.levels):
                    if int(first) + level in inner:
                        table[level] = s.root[inner[int(first) + level]]
                        effects[level] = s.coefficients[inner[int(first) + level]]
                codes = block.codes[chunk]
                if block.multiplier is None:
                    Q[:, 1:] += table[codes]
                    residual -= effects[codes]
                else:
                    deviation = block.multiplier[chunk] - self.moments.centres[k_block]
                    Q[:, 1:] += deviation[:, None] * table[codes]
                    residual -= deviation * effects[codes]
            if self.fixed_effects is not None:  # a row that is a level of its own is fitted exactly
                lone = self.fixed_effects.rows_at[at] == 1
                Q[lone, 1:], residual[lone] = 0.0, 0.0
            yield chunk, Q, residual, np.ones(len(residual)) if self.weights is None else self.weights[chunk]
