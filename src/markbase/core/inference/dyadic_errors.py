"""Errors of dyads: rows about two members, such as who asks whom, of which any two that have a member in common may go together.

A member that one column names in a row, and the other column in another, is in both. Errors clustered by the one column, by the other, or by
both two ways take such rows as independent. Here every estimate is taken without each member, in whatever column it stands, which counts rows
of the same two members twice: what these sum to is taken away once, but no more than leaves what they sum to.

References
----------
Aronow, Samii & Assenova (2015), Political Analysis 23(4), 564-577, doi:10.1093/pan/mpv018 (sums of scores by member, less those of dyads).
Cameron & Miller (2014), Robust inference for dyadic data, unpublished manuscript, University of California, Davis.
MacKinnon, Nielsen & Webb (2023), Journal of Applied Econometrics 38(5), 671-694, doi:10.1002/jae.2969 (leaving out a cluster at a time).
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import FitError
from markbase.core.estimation.fixed_effects import FixedEffects
from markbase.core.inference.clustered_errors import moves_without, several_clusters
from markbase.core.inference.crossed_clusters import numbered_cells, within_cells
from markbase.core.inference.standard_errors import Crossed, Errors, Over, ScoredRows
from markbase.core.inference.strata import codes_within
from markbase.core.rows.row_functions import made_of
from markbase.core.study.column import Column

Array = NDArray[np.float64]


def dyadic_errors(over: Over, one: Column, other: Column, n: int, rest: int, p: int) -> Errors:
    """Return errors of rows that go together where they have a member in common, in either of two columns with the same levels.

    Their middle is V₂ + (V₁ − 2·V₂)₊ for V₁ = (M − 1)/M·Σ d_m d_mᵀ, with d_m by how much the estimates exceed those without the rows of one of M members, and
    V₂ = (n − 1)/(n − k)·Σ u_c u_cᵀ, with u_c the sum of scores of the rows of the same two: V₁ − V₂ where that is no less than V₂ in any direction, the
    variance clustered by dyads, which would do if members had nothing to do with it. t is on M − 1.
    """
    each = [several_clusters(over, column, p) for column in (one, other)]
    counts = [int(np.count_nonzero(sums.rows)) for sums in each]
    members = over_members(over, other)
    sums = several_clusters(members, one, p)
    count = int(np.count_nonzero(sums.rows))
    moved, alone = moves_without(members, one, sums, p)
    shared, dyads = within_cells(over, numbered_cells(one, other, turned=True), each[0], p)
    shared = shared * ((n - 1) / rest)  # of single rows it is theirs, which stay as they are
    more = moved.T @ moved * ((count - 1) / count) - 2 * shared
    fitted = np.vstack([directions for _, directions in alone]) if alone else None
    if fitted is not None:  # of which no residual tells
        inside = np.eye(p + 1) - np.linalg.pinv(fitted) @ fitted
        more, shared = (inside @ own @ inside for own in (more, shared))
    values, vectors = np.linalg.eigh(more)
    middle = shared + (vectors * np.maximum(values, 0.0)) @ vectors.T
    of_two = Crossed(
        other.name, counts[1], each[1].even, dyads, np.zeros((2, p + 1, p + 1)), members=count, even_members=sums.even
    )
    return Errors(
        "dyadic",
        count - 1,
        one.name,
        counts[0],
        middle,
        each[0].uncancelled,
        fitted,
        even_clusters=each[0].even,
        crossed=of_two,
    )


def refuse_beyond_dyads(over: Over, one: Column, other: Column, fixed_effects: FixedEffects) -> None:
    """Refuse levels taken out that lie in several dyads: without a member of one of these, they would be others."""
    for pick in (np.minimum, np.maximum):
        (member,) = made_of(1, lambda a, b, pick=pick: (pick(a, b).astype(np.float64),), one.values, other.values)
        low, high = codes_within(over, len(fixed_effects.rows_at), fixed_effects.codes, member)
        if (high > low).any():
            name = fixed_effects.names[0]
            raise FitError(
                f"Levels of `{name}` that are taken out lie in several dyads of `{one.name}` and `{other.name}`, and would be others without a member of one of them, which "
                f"dyadic errors leave out. Give `{name}` as a term, or cluster two ways (CR1)."
            )


def over_members(over: Over, other: Column) -> Over:
    """Return what applies a function to the scored rows of every part, each of them twice: once for either member.

    What it is given of the first column is followed by the second one, whose levels are the same.
    """

    def twice(function: Any, first: Any, *trees: Any) -> Iterator[Any]:
        def both(rows: Iterator[ScoredRows], one: Any, two: Any, *more: Any) -> Any:
            return function(_again(rows, len(one)), np.concatenate([one, two]), *more)

        return over(both, first, other.values, *trees)

    return twice


def _again(rows: Iterator[ScoredRows], size: int) -> Iterator[ScoredRows]:
    """Yield rows, and the same as if they stood so much later."""
    for own in rows:
        yield own
        chunk = own.chunk
        later = slice(chunk.start + size, chunk.stop + size) if isinstance(chunk, slice) else chunk + size
        yield own._replace(chunk=later)
