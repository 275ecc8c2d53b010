"""Controls with many levels that nobody wants listed: their levels are taken out before anything is estimated.

A full set of indicators of a column changes the other estimates only through the sums of their columns
by level. These sums are taken once; subtracting what they tell from the cross-products leaves those of
deviations from the means of the levels (Frisch & Waugh 1933), and no indicator is ever laid out.

References
----------
Frisch & Waugh (1933), Econometrica 1(4), 387-401, doi:10.2307/1907330.
Abowd, Creecy & Kramarz (2002), Computing person and firm effects, TP-2002-06 (which levels of a second
column are free).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from markbase.core import extended_precision as twofold
from markbase.core.design.chunks import CHUNK_ROWS, row_chunks
from markbase.core.design.moments import Moments
from markbase.core.design.requested_terms import TermRequest, names_of
from markbase.core.design.terms import CodedColumns, Term, Variable
from markbase.core.errors import ColumnError, FitError, count_noun, listed, quoted, remark
from markbase.core.rows.parts import each_part, in_parts, needs_all, over_parts
from markbase.core.rows.processors import in_order
from markbase.core.rows.row_functions import counted, look_up
from markbase.core.rows.sums import total_of
from markbase.core.study.column import Column
from markbase.core.study.declarations import as_levels
from markbase.core.study.study import Study

Array = NDArray[np.float64]
MOST_SECOND = 3000
"""More levels than this are not taken as a second column."""


@dataclass(frozen=True, eq=False)
class FixedEffects:
    """What is known of the levels taken out."""

    columns: tuple[Column, ...]
    """The columns, one or two; the one with more levels first."""
    codes: NDArray[np.intp]
    """Shape (rows,): the level of the first column each row used has."""
    rows_at: NDArray[np.intp]
    """Shape (levels,): rows used at each level of the first column."""
    second: Term | None = None
    """The second column, which goes in as indicators that are not told."""
    weights: Array | None = None
    """Shape (rows,): with how much each row counts."""
    sums: Array | None = None
    """Shape (columns of the moments, levels): their sums by level, the first row how much the levels count."""
    outcome_ss: float = 0.0
    """The outcome's sum of squared deviations within the levels."""

    @property
    def names(self) -> tuple[str, ...]:
        """The names of the columns."""
        return tuple(c.name for c in self.columns)

    @property
    def levels(self) -> int:
        """Levels of the first column in the rows used."""
        return len(self.rows_at)

    @property
    def hidden(self) -> tuple[Term, ...]:
        """The second column as a term, if there is one."""
        return () if self.second is None else (self.second,)

    def gathered(
        self, moments: Moments, blocks: Sequence[CodedColumns], used: NDArray[np.bool_] | None
    ) -> FixedEffects:
        """Return the same with the sums of all columns by level, in one pass over the rows.

        Of rows in memory one half of the columns is summed beside the other: shares of the rows would each have sums of every level.
        """
        levels, wide = self.levels, moments.cross.shape[0] * self.levels
        middle = (len(blocks) + 1) // 2
        halves = [(0, len(blocks))] if in_parts(self.codes) or len(blocks) < 2 else [(0, middle), (middle, len(blocks))]

        def of_some(half: tuple[int, int]) -> Array:
            first, last = half
            begin = 0 if first == 0 else int(moments.starts[first + 1])

            def summed(
                blocks: Sequence[CodedColumns],
                used: NDArray[np.bool_] | None,
                codes: NDArray[np.intp],
                weights: Array | None,
            ) -> Array:
                sums = np.zeros((int(moments.starts[last]) + blocks[-1].levels - begin, levels))
                for chunk in row_chunks(len(codes), used, max(CHUNK_ROWS, wide)):
                    at = codes[chunk]
                    w = None if weights is None else weights[chunk]
                    if first == 0:
                        sums[0] += np.bincount(at, weights=w, minlength=levels)
                    for k, block in enumerate(blocks, first + 1):
                        value = w
                        if block.multiplier is not None:
                            value = (block.multiplier[chunk] - moments.centres[k]) / moments.scales[k]
                            value = value if w is None else value * w
                        size, start = block.levels, int(moments.starts[k]) - begin
                        cell = at if block.codes is None else at + levels * block.codes[chunk].astype(np.intp)
                        told = np.bincount(cell, weights=value, minlength=size * levels)
                        sums[start : start + size] += told.reshape(size, levels)
                return sums

            trees = list(blocks[first:last]), used, self.codes, self.weights
            return total_of(each_part(summed, *trees, cells=wide))

        return replace(self, sums=np.concatenate(list(in_order(of_some, halves))))

    def sums_twofold(
        self, moments: Moments, blocks: Sequence[CodedColumns], used: NDArray[np.bool_] | None
    ) -> twofold.Twofold:
        """Return the sums by level in twice the working precision, shape (columns, levels)."""
        levels = self.levels

        def summed(
            blocks: Sequence[CodedColumns],
            used: NDArray[np.bool_] | None,
            codes: NDArray[np.intp],
            weights: Array | None,
        ) -> twofold.Twofold:
            total = (np.zeros((moments.cross.shape[0], levels)), np.zeros((moments.cross.shape[0], levels)))

            def put(rows: slice, sums: twofold.Twofold) -> None:
                size = rows.stop - rows.start
                new = tuple(part.reshape(levels, size).T for part in sums)
                total[0][rows], total[1][rows] = twofold.add((total[0][rows], total[1][rows]), (new[0], new[1]))

            for chunk in row_chunks(len(codes), used):
                at = codes[chunk]
                w = np.ones(len(at)) if weights is None else weights[chunk]
                weight = (w, np.zeros_like(w))
                put(slice(0, 1), twofold.sums_by_code(at, weight, levels))
                for k, block in enumerate(blocks, 1):
                    value = weight
                    if block.multiplier is not None:
                        x = block.multiplier[chunk]
                        high, low = twofold.two_sum(x, np.full(len(x), -moments.centres[k]))
                        value = (high / moments.scales[k], low / moments.scales[k])
                        value = value if weights is None else twofold.times(value, weight)
                    size, start = block.levels, int(moments.starts[k])
                    cell = at if block.codes is None else at * size + block.codes[chunk]
                    put(slice(start, start + size), twofold.sums_by_code(cell, value, levels * size))
            return total

        whole = None
        for part in over_parts(summed, list(blocks), used, self.codes, self.weights):
            whole = part if whole is None else twofold.add(whole, part)
        assert whole is not None  # rows in memory are one part, and a fit has rows
        return whole

    def only(self, columns: NDArray[np.intp]) -> FixedEffects:
        """Return the same with the sums of some columns of the moments."""
        assert self.sums is not None
        return replace(self, sums=self.sums[columns])

    def means(self, moments: Moments) -> tuple[Array, Array]:
        """Return the means by level, from the centres and in the units of the data.

        Parameters
        ----------
        moments : Moments
            The moments the sums belong to.

        Returns
        -------
        columns : ndarray, shape (columns, levels)
            Those of all columns.
        outcome : ndarray, shape (levels,)
            Those of the outcome, the last column.
        """
        assert self.sums is not None
        scale = np.repeat(moments.scales, moments.sizes)
        means = self.sums / self.sums[0] * scale[:, None]
        return means, means[-1]

    def free_levels(self, moments: Moments, place: int) -> NDArray[np.intp]:
        """Return the columns of the second column that the first does not tell, shape (k,).

        Rows that share a level of either column are connected; in each connected part one level of the
        second column follows from the others, and the most populous one goes out.
        """
        if self.second is None:
            return np.zeros(0, dtype=np.intp)
        from scipy.sparse import coo_array
        from scipy.sparse.csgraph import connected_components

        assert self.sums is not None
        start, size = int(moments.starts[place]), self.second.size
        second, first = np.nonzero(self.sums[start : start + size])
        joined = size + self.levels
        links = coo_array((np.ones(len(second)), (second, first + size)), shape=(joined, joined))
        _, part = connected_components(links, directed=False)
        counts = moments.cross[0, start : start + size]
        stays = np.ones(size, dtype=bool)
        for label in np.unique(part[:size]):
            inside = np.flatnonzero(part[:size] == label)
            stays[inside[np.argmax(counts[inside])]] = False
        return start + np.flatnonzero(stays)

    @property
    def words(self) -> str:
        """What was taken out, in a few words."""
        sizes = [self.levels, *(t.size for t in self.hidden)]
        told = [f"`{n}` ({count_noun(k, 'level')})" for n, k in zip(self.names, sizes, strict=True)]
        return (
            f"{listed(told)}: each level has a start of its own, not listed; estimates "
            f"are the same as with all {'its' if len(told) == 1 else 'their'} indicators in the model"
        )


def fixed_effect_columns(study: Study, fixed_effects: str | Sequence[str] | None, outcome: str) -> list[Column]:
    """Return the columns whose levels are to be taken out, one or two, checked: groups or identifiers; empty if none was named."""
    names = [] if fixed_effects is None else [fixed_effects] if isinstance(fixed_effects, str) else list(fixed_effects)
    if len(names) > 2 or len(set(names)) < len(names):
        raise FitError(f"Fixed effects are of one column, or of two different ones, not {listed(quoted(names))}.")
    columns = [study.column(name) for name in names]
    for column in columns:
        if column.name == outcome:
            raise ColumnError(f"`{column.name}` is the outcome, so its levels cannot be taken out.")
        if column.fault:
            raise ColumnError(column.fault)
    return [c if c.role == "identifier" else as_levels(c, "fixed effects") for c in columns]


def check_apart(columns: Sequence[Column], requests: Sequence[TermRequest]) -> None:
    """Refuse a column that is to be taken out and is a term as well."""
    inside = {name for request in requests for name in names_of(request)}
    for column in columns:
        if column.name in inside:
            raise ColumnError(
                f"The levels of `{column.name}` cannot be fixed effects and in the model as well; leave it out of one of the two."
            )


def fixed_effects_of(
    columns: Sequence[Column], used: NDArray[np.bool_] | None, weights: Array | None
) -> FixedEffects | None:
    """Give a number to each level of one or two columns that are taken out; their sums are not yet taken. None for no column.

    Raises a `FitError` if a column has one level only, every row a level of its own, or the second too many levels. Remarks
    on levels with one row only, which tell nothing of the terms.
    """
    if not columns:
        return None
    numbered = sorted(((numbered_levels(c, used), c) for c in columns), key=lambda pair: -len(pair[0][1]))
    (codes, rows_at), first = numbered[0]
    for (_, counts), column in numbered:
        if len(counts) < 2:
            raise FitError(
                f"`{column.name}` has one level in the rows used, so nothing can be taken out; leave it out."
            )
        if counts.max() == 1:
            raise FitError(
                f"`{column.name}` has a level of its own for every row used, so nothing would be left to explain; leave it out."
            )
    lone = int((rows_at == 1).sum())
    if lone:
        remark(
            f"{count_noun(lone, 'level')} of `{first.name}` {'has' if lone == 1 else 'have'} one row only: within "
            f"{'it' if lone == 1 else 'them'} there is nothing to compare, so {'that row tells' if lone == 1 else 'those rows tell'} "
            f"nothing of the terms."
        )
    second = None
    if len(numbered) == 2:
        (_, counts), column = numbered[1]
        if len(counts) > MOST_SECOND:
            raise FitError(
                f"`{column.name}` has {len(counts):,} levels; of two columns to take out, the one with fewer levels may have up "
                f"to {MOST_SECOND:,}. Take one out, and enter the other in a coarser form."
            )
        second = _hidden(column, used)
    return FixedEffects(tuple(c for _, c in numbered), codes, rows_at, second, weights)


def numbered_levels(column: Column, used: NDArray[np.bool_] | None) -> tuple[NDArray[np.intp], NDArray[np.intp]]:
    """Give each level that occurs a number; return those of the rows (0 where not used), and the rows at each."""
    if column.is_categorical:
        at = column.counts if used is None else counted(column.values[used], len(column.levels))
        here = np.flatnonzero(at)
        slot = np.zeros(len(at) + 1, dtype=np.intp)
        slot[here] = np.arange(len(here))
        codes = look_up(slot, column.values)
        return (codes if used is None else np.where(used, codes, 0)), at[here]
    if in_parts(column.values):
        raise needs_all(f"numbering the values of `{column.name}`", "declare it categorical in the codebook")
    values = column.values if used is None else column.values[used]
    _, inner, counts = np.unique(values, return_inverse=True, return_counts=True)
    codes = np.zeros(len(column.values), dtype=np.intp)
    codes[slice(None) if used is None else used] = inner.ravel()
    return codes, counts


def _hidden(column: Column, used: NDArray[np.bool_] | None) -> Term:
    if not column.is_categorical:
        raise FitError(
            f"Of two columns to take out, the one with fewer levels must be a group; declare `{column.name}` one."
        )
    counts = column.counts if used is None else counted(column.values[used], len(column.levels))
    places = np.flatnonzero(counts)
    return Term(column.name, (Variable(column, places, int(np.argmax(counts[places]))),))
