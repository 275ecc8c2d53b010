"""What standard errors rest on: one variance for all rows, variances that differ from row to row, or clusters of rows."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import remark
from markbase.core.formatting import short

Array = NDArray[np.float64]

ALONE = 1e-9
"""A row, or a cluster, with a leverage of 1 but for less is fitted exactly."""
_TOUCHED = 1e-8
MEMBER = "member"
"""What is left out in turn of dyads."""
FEW_CLUSTERS = 30
"""With fewer clusters than this, clustered errors tend to be too small."""
_FEW_MEMBERS = 10
"""With fewer members than this, so do errors of dyads."""


class ClusterKind(NamedTuple):
    """Clusters of one kind."""

    name: str
    """Their column."""
    clusters: int
    """How many there are."""
    even: float
    """As how many of equal size they count (`Errors.even_clusters`)."""


@dataclass(frozen=True, eq=False)
class Crossed:
    """A second kind of clusters, which cut through those of the first."""

    cluster: str
    """The column of these clusters."""
    clusters: int
    """How many there are."""
    even_clusters: float
    """As how many clusters of equal size they count."""
    cells: int
    """In how many cells the clusters of the two kinds cross."""
    alone: Array
    """Shape (2, p + 1, p + 1): the sums of squared scores within clusters of the first kind alone, and of the second alone; 0 of dyads, which are held against neither."""
    below: bool = False
    """Whether what the two leave is below 0 in some direction, where it is taken as 0."""
    members: int = 0
    """How many members the two columns name, of dyads; 0 where errors are clustered two ways."""
    even_members: float = 0.0
    """As how many members with as many rows as one another they count."""


@dataclass(frozen=True, eq=False)
class Errors:
    """What the standard errors rest on."""

    kind: str
    """``classical``, ``HC0`` to ``HC3``, ``clustered`` (by summed scores, CR1), ``CR3``, ``dyadic``, ``HAC`` or ``replicates``."""
    df: float
    """Degrees of freedom of t, and of the denominator of F of one coefficient: rows less coefficients, or clusters less one; of several strata one
    less for each more; of periods .4 times their number to the power of ⅔; infinite where normal theory is used."""
    cluster: str = ""
    """The column of the clusters; empty for none."""
    clusters: int = 0
    """How many clusters there are; 0 for none."""
    middle: Array | None = None
    """Shape (p + 1, p + 1): the sum of squared scores, or movements, in whitened columns, intercept first; None for classical."""
    uncancelled: Array | None = None
    """Shape (p + 1, p + 1): the same of single rows, where scores are summed within clusters; None otherwise."""
    fitted: Array | None = None
    """Shape (k, p + 1): whitened directions in which a row, or a cluster, is fitted exactly; None where there are none."""
    strata: str = ""
    """The column of the strata within which clusters, or rows, were drawn; empty for none."""
    strata_count: int = 0
    """How many strata there are; 0 for none."""
    even_clusters: float = 0.0
    """As how many clusters of equal size they count, (Σn)²/Σn² for clusters of n rows (Carter, Schnepel & Steigerwald 2017,
    doi:10.1162/REST_a_00639, where rows go together alike in all of them); 0 for none."""
    time: str = ""
    """The column of the periods that follow one another; empty for none."""
    periods: int = 0
    """How many periods there are; 0 for none."""
    crossed: Crossed | None = None
    """A second kind of clusters; None for none."""
    replicates: int = 0
    """How many replicate weights they are from; 0 for none."""
    replicated: str = ""
    """What these are, in words; empty for none."""

    @property
    def by(self) -> tuple[ClusterKind, ...]:
        """The kinds of clusters: none, one or two."""
        first = (ClusterKind(self.cluster, self.clusters, self.even_clusters),) if self.cluster else ()
        other = self.crossed
        return first if other is None else (*first, ClusterKind(other.cluster, other.clusters, other.even_clusters))

    @property
    def members(self) -> ClusterKind | None:
        """The members of dyads; None where there are none."""
        other = self.crossed
        if other is None or not other.members:
            return None
        return ClusterKind(MEMBER, other.members, other.even_members)

    @property
    def rest_on_few(self) -> bool:
        """Whether they rest on a few sums of scores, of clusters or periods, or on replicate weights, so that F is Hotelling's, and p and intervals go by t."""
        return bool(self.clusters or self.periods or self.replicates)

    @property
    def fewest_clusters(self) -> int:
        """How many clusters there are, of two kinds those of the fewer; 0 for none."""
        return min((kind.clusters for kind in self.by), default=0) if self.members is None else self.members.clusters

    def hotelling(self, several: int) -> tuple[float, float]:
        """Return how the mean square of several coefficients together goes by F.

        Parameters
        ----------
        several : int
            How many coefficients, r.

        Returns
        -------
        share : float
            What the mean square is multiplied by to be F: 1; with clusters or periods, of which it is Hotelling's T²/r, (d − r + 1)/d, d being `df`.
        df_rest : float
            Degrees of freedom of its denominator: `df`; with clusters or periods d − r + 1. Both NaN where these are too few.
        """
        rest = self.df - several + 1
        if not self.rest_on_few or math.isinf(self.df):
            return 1.0, self.df
        return (rest / self.df, rest) if rest > 0 else (math.nan, math.nan)

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
        return np.zeros(len(roots), dtype=bool) if self.fitted is None else rest_on(roots, self.fitted)

    @property
    def asked(self) -> str:
        """The kind that has to be asked for to get them again; empty for those that a fit gets by itself, with clusters or without."""
        return "" if self.kind in ("classical", "clustered") else self.kind

    @property
    def unknown_words(self) -> str:
        """Why some combinations have no standard error, as a clause."""
        if self.periods:
            return f"a period of `{self.time}`, or a column that is constant within all of them, is fitted exactly: no HAC error of it exists"
        if self.clusters:
            names = " or ".join(f"`{kind.name}`" for kind in self.by)
            return f"a level of {names}, or a column that is constant within its levels, is fitted exactly: no clustered error of it exists"
        return f"a row that decides a coefficient alone is fitted exactly: no {self.kind} error of it exists"

    @property
    def drawn(self) -> str:
        """How rows were drawn together, in a few words; empty where they are independent."""
        what, joined = ("clusters", " and of ") if self.members is None else ("members", " or ")
        names = joined.join(f"`{kind.name}`" for kind in self.by)
        if self.replicates:
            return "what the replicate weights hold of the sample"
        told = (f"{what} of {names}" * bool(names), f"strata of `{self.strata}`" * bool(self.strata))
        return " within ".join(filter(None, told))

    @property
    def words(self) -> str:
        """What the standard errors rest on, in a few words."""
        if self.kind == "classical":
            if np.isinf(self.df):
                return "errors from the likelihood: rows independent, the form of the model right"
            return "classical errors: one variance for all rows, rows independent"
        if self.replicates:
            return f"errors from {self.replicated}: how rows were drawn is in these"
        if self.periods:
            return (
                f"errors robust to serial correlation (HAC): rows of one `{self.time}` ({self.periods:,} periods), and of those that follow one "
                f"another, may go together"
            )
        if self.members is not None:
            names = " or ".join(f"`{kind.name}`" for kind in self.by)
            return (
                f"dyadic errors, from leaving out each member of {names} ({self.members.clusters:,} members): rows that have a member in common, in either "
                f"column, may go together"
            )
        if self.crossed is not None:
            names = " and by ".join(f"`{kind.name}` ({kind.clusters:,} clusters)" for kind in self.by)
            return f"errors clustered two ways, by {names}: rows that share either may go together"
        if self.clusters:
            own = ", from leaving out one at a time (CR3)" if self.kind == "CR3" else ""
            drawn = f", drawn within {self.strata_count:,} strata of `{self.strata}`" if self.strata else ""
            return f"errors clustered by `{self.cluster}` ({self.clusters:,} clusters{drawn}){own}: rows within one may go together"
        drawn = f", of rows drawn within {self.strata_count:,} strata of `{self.strata}`" if self.strata else ""
        return f"{self.kind} errors{drawn}: variance may differ from row to row"


def rest_on(roots: Array, directions: Array) -> NDArray[np.bool_]:
    """Return which combinations, shape (m, p + 1), have a part in some whitened directions, shape (k, p + 1)."""
    share = np.einsum("ij,ij->i", roots @ directions.T, roots @ directions.T)
    found: NDArray[np.bool_] = share > _TOUCHED * np.einsum("ij,ij->i", roots, roots)
    return found


Over = Callable[..., Iterator[Any]]
"""Takes a function and arrays of one value a row, and applies it to the `ScoredRows` of every part and its share of the arrays."""


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


def remark_on_clusters(errors: Errors) -> None:
    """Remark on clusters that are few, or so uneven that few of them count, and on such that do not cross."""
    if errors.members is not None:
        _remark_on_members(errors.members)
        return
    for inner, outer in itertools.permutations(errors.by, 2):
        if errors.crossed is not None and errors.crossed.cells == inner.clusters:
            remark(
                f"Each `{inner.name}` lies in one `{outer.name}`, so that the two do not cross: these are the errors clustered by `{outer.name}` alone."
            )
            break
    enough = FEW_CLUSTERS + max(errors.strata_count - 1, 0)
    for name, count, even in errors.by if errors.kind == "clustered" else ():
        if min(count, round(even)) >= enough:
            continue
        told = f"{count} clusters{f' in {errors.strata_count} strata' if errors.strata else ''}"
        if count < enough:
            told = f"only {told}"
        else:
            told += f" of uneven size, which count as about {short(even, 2)} even ones"
        other = errors.strata or errors.crossed is not None
        way = "" if other else ", or take errors from leaving out one cluster at a time (CR3)"
        remark(
            f"`{name}` has {told}: clustered errors tend to be too small with fewer than {FEW_CLUSTERS}"
            f"{' and one more for each further stratum' if errors.strata else ''}, so read intervals as narrower than they should be{way}."
        )


def _remark_on_members(members: ClusterKind) -> None:
    """Remark on dyads of few members."""
    if min(members.clusters, round(members.even)) < _FEW_MEMBERS:
        uneven = f", which count as about {short(members.even, 2)} with as many rows as one another"
        told = f"{members.clusters} members{uneven * (round(members.even) < members.clusters)}"
        remark(
            f"The dyads have {told}: with fewer than {_FEW_MEMBERS} what rows say of how they go together is little, so read intervals as rough ones."
        )
