"""Rows in coordinates in which the cross-products are the identity: leverages, residuals and scores come from them."""

from __future__ import annotations

import copy
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from markbase.core import extended_precision as twofold
from markbase.core.design.chunks import joint_cells, row_chunks
from markbase.core.design.moments import Moments
from markbase.core.design.terms import CodedColumns
from markbase.core.estimation.fixed_effects import FixedEffects
from markbase.core.estimation.least_squares_solution import Solution
from markbase.core.rows.parts import each_part, rows_at
from markbase.core.rows.row_functions import evenly_spread, made_of

T = TypeVar("T")
Array = NDArray[np.float64]
Chunk = slice | NDArray[np.intp]
_CELLS = 1 << 17
"""Numbers of a chunk: no more than what is near the processor holds."""
_LEAST_ROWS, _MOST_ROWS = 1024, 1 << 16
_JOINT_CELLS = 1 << 15


@dataclass(frozen=True, eq=False)
class _Added:
    """What a component, or groups looked up together, add to the fit and to whitened columns."""

    blocks: tuple[int, ...]
    """Which blocks."""
    table: Array
    """Shape (levels, p + 1): by level, or joint cell."""
    lower: Array
    """What is to be added to the table in twice the working precision."""
    centre: float
    """From where a multiplier is counted."""


class Whitened:
    """Rows in coordinates in which the cross-products are the identity, a chunk at a time.

    A row x is told by ``[1/√n, Aᵀ(x − mean)]``, of which the squared length is the leverage. Levels are
    looked up in a small table and never laid out. With levels taken out, the mean is that within the level. Where the
    solution was taken in twice the working precision, so are the sums over the columns, which cancel as nearly as the
    columns are collinear.
    """

    def __init__(
        self,
        moments: Moments,
        blocks: Sequence[CodedColumns],
        solution: Solution,
        used: NDArray[np.bool_] | None,
        weights: Array | None,
        fixed_effects: FixedEffects | None,
    ) -> None:
        self.fixed_effects = fixed_effects
        self.moments, self.blocks, self.solution, self.used = moments, blocks, solution, used
        self.weights = weights
        s = solution
        self._precise = s.twofold
        self._root = np.hstack([s.coefficients[:, None], s.root])  # what each column adds to the fit, and to Q
        self._lower = np.hstack([s.lower[:, None], s.root_lower])

    def made(self, count: int, function: Callable[..., tuple[Array, ...]], *trees: Any) -> tuple[Any, ...]:
        """Return arrays of one value a row that a function makes of whitened rows: at once, or of each part when asked for."""
        found: tuple[Any, ...] = self._applied(partial(made_of, count), function, *trees)
        return found

    def over(self, function: Callable[..., T], *trees: Any) -> Iterator[T]:
        """Apply a function to the rows of every part: it takes them as whitened rows of their own, and the part's share of arrays.

        What it returns comes in the order of the parts; rows in memory are one.
        """
        found: Iterator[T] = self._applied(each_part, function, *trees)
        return found

    def _applied(self, apply: Callable[..., Any], function: Callable[..., Any], *trees: Any) -> Any:
        bare = self._bare()
        return apply(lambda rows, *more: function(bare._with(*rows), *more), self._rows(), *trees)

    def _rows(self) -> tuple[Any, ...]:
        """Return what of it is of single rows."""
        codes = None if self.fixed_effects is None else self.fixed_effects.codes
        return list(self.blocks), self.used, self.weights, codes

    def _bare(self) -> Whitened:
        """Return the same without what is of single rows."""
        bare, fixed = self._with([], None, None, np.zeros(0, dtype=np.intp)), self.fixed_effects
        bare.fixed_effects = None if fixed is None else replace(bare.fixed_effects, columns=())  # type: ignore[type-var]
        return bare

    def _with(
        self,
        blocks: Sequence[CodedColumns],
        used: NDArray[np.bool_] | None,
        weights: Array | None,
        codes: NDArray[np.intp] | None,
    ) -> Whitened:
        """Return the same with other rows."""
        own = copy.copy(self)
        own.blocks, own.used, own.weights = blocks, used, weights
        if own.fixed_effects is not None and codes is not None:
            own.fixed_effects = replace(own.fixed_effects, codes=codes)
        return own

    def at_rows(self, rows: NDArray[np.intp]) -> Whitened:
        """Return some of the rows, by their places, which rise; they are in memory."""
        blocks = [(b.codes, b.multiplier) for b in self.blocks]
        codes = None if self.fixed_effects is None else self.fixed_effects.codes
        some, weights, codes = rows_at(rows, blocks, self.weights, codes)
        own = [CodedColumns(b.levels, *pair) for b, pair in zip(self.blocks, some, strict=True)]
        return self._with(own, None, weights, codes)

    def residuals(self) -> Array:
        """Return the residuals, shape (rows,), NaN in rows not used.

        Summed from the centres, they keep their digits far from 0, where the outcome less what is fitted would be rounding.
        """
        s, alone = self.solution, copy.copy(self)  # without the columns, which take most of the time
        alone.solution = replace(s, root=s.root[:, :0], root_lower=s.root_lower[:, :0])
        alone._root, alone._lower = self._root[:, :1], self._lower[:, :1]

        def told(own: Whitened) -> tuple[Array]:
            outcome = own.blocks[-1].multiplier
            assert outcome is not None
            e = np.full(len(outcome), np.nan)
            for chunk, _, residual, _ in own.chunks():
                e[chunk] = residual
            return (e,)

        (found,) = alone.made(1, told)
        return found  # type: ignore[no-any-return]

    @staticmethod
    def residuals_of_some(several: Sequence[Whitened], most: int) -> tuple[list[Array], Array | None, Array]:
        """Return the residuals of several fits of the same rows, the weights and the outcome: of about so many rows, evenly spread, where there are more."""
        (some,) = evenly_spread(
            most, several[0].solution.rows, several[0].used, [(*own._rows()[:1], *own._rows()[2:]) for own in several]
        )
        fits = [
            own._with(blocks, None, weights, codes) for own, (blocks, weights, codes) in zip(several, some, strict=True)
        ]
        outcome = fits[0].blocks[-1].multiplier
        assert outcome is not None
        return [own.residuals() for own in fits], fits[0].weights, outcome

    def _starts(self) -> tuple[Array, Array]:
        """Return what the fit and Q begin from, high and low parts: one row, or one for each level taken out."""
        s = self.solution
        if self.fixed_effects is None:
            y_centre = np.array([self.moments.centres[-1]])
            offset = twofold.minus((np.array([s.at_centres[0]]), np.array([s.at_centres[1]])), (y_centre, np.zeros(1)))
            above = twofold.minus((s.means, s.means_lower), (s.centres, np.zeros_like(s.centres)))
            whole = (np.zeros(s.root.shape[1]), np.zeros(s.root.shape[1]))
            for k in range(len(s.means)):
                term = twofold.times((-above[0][k : k + 1], -above[1][k : k + 1]), (s.root[k], s.root_lower[k]))
                whole = twofold.add(whole, term)
            return np.append(offset[0], whole[0])[None, :], np.append(offset[1], whole[1])[None, :]
        means, outcome = self.fixed_effects.means(self.moments)
        own = means[s.columns].T
        start = np.hstack([(outcome - own @ s.coefficients)[:, None], -(own @ s.root)])
        return start, np.zeros_like(start)

    def leverages(self, chunk: Chunk, Q: Array) -> Array:
        """Return the leverage of each row of a chunk, for a weight of 1."""
        leverage: Array = np.einsum("ij,ij->i", Q, Q)
        if self.fixed_effects is not None:
            at = self.fixed_effects.codes[chunk]
            assert self.fixed_effects.sums is not None
            own = np.where(self.fixed_effects.rows_at[at] == 1, 0.0, 1 / self.fixed_effects.sums[0, at])
            leverage += own - 1 / self.solution.weight  # a lone row adds nothing
        return leverage

    def chunks(self) -> Iterator[tuple[Chunk, Array, Array, Array]]:
        """Yield which rows, their whitened columns (rows, p + 1), residuals (rows,) and weights (rows,)."""
        s, p = self.solution, len(self.solution.columns)
        y = self.blocks[-1].multiplier
        assert y is not None
        start, added = self._starts(), self._added()
        laid = self._laid_out_precisely if self._precise else self._laid_out
        size = max(_LEAST_ROWS, min(_MOST_ROWS, _CELLS // (p + 1)))
        for chunk in row_chunks(len(y), self.used, size):
            at = 0 if self.fixed_effects is None else self.fixed_effects.codes[chunk]
            residual, Q = laid(chunk, (start[0][at], start[1][at]), added, y[chunk])
            Q[:, 0] = 1 / np.sqrt(s.weight)
            if self.fixed_effects is not None:  # a row that is a level of its own is fitted exactly
                lone = self.fixed_effects.rows_at[at] == 1
                Q[lone, 1:], residual[lone] = 0.0, 0.0
            yield chunk, Q, residual, np.ones(len(Q)) if self.weights is None else self.weights[chunk]

    def _added(self) -> list[_Added]:
        """Return what each component adds."""
        inner = {int(c): k for k, c in enumerate(self.solution.columns)}
        found = []
        for k, first in enumerate(self.moments.starts[1 : len(self.blocks)]):
            block = self.blocks[k]
            places = np.array([inner.get(int(first) + level, -1) for level in range(block.levels)])
            told = places >= 0
            if not told.any():
                continue
            table, lower = np.zeros((2, block.levels, self._root.shape[1]))
            table[told], lower[told] = self._root[places[told]], self._lower[places[told]]
            found.append(_Added((k,), table, lower, float(self.moments.centres[k + 1])))
        return found if self._precise else self._joined(found)

    def _joined(self, added: Sequence[_Added]) -> list[_Added]:
        """Look up together the levels of groups whose joint table is small."""
        found: list[_Added] = []
        for one in sorted(added, key=lambda a: len(a.table)):
            block = self.blocks[one.blocks[0]]
            before = found[-1] if found and self.blocks[found[-1].blocks[0]].multiplier is None else None
            if before is None or block.multiplier is not None or before.table.size * block.levels > _JOINT_CELLS:
                found.append(one)
                continue
            table = (before.table[:, None, :] + one.table[None, :, :]).reshape(-1, one.table.shape[1])
            found[-1] = _Added((*before.blocks, *one.blocks), table, one.lower, 0.0)
        return found

    def _laid_out(
        self, chunk: Chunk, start: tuple[Array, Array], added: Sequence[_Added], y: Array
    ) -> tuple[Array, Array]:
        """Return residuals, and whitened columns behind one that is left to fill."""
        numerics = [a for a in added if self.blocks[a.blocks[0]].codes is None]
        deviations = np.empty((len(numerics), len(y)))
        for row, one in zip(deviations, numerics, strict=True):
            np.subtract(self.blocks[one.blocks[0]].multiplier[chunk], one.centre, out=row)  # type: ignore[index]
        steepness = np.vstack([a.table for a in numerics]) if numerics else np.zeros((0, self._root.shape[1]))
        high: Array = np.dot(deviations.T, steepness)
        high += start[0]
        room = np.empty_like(high)
        for one in added:
            block = self.blocks[one.blocks[0]]
            if block.codes is None:
                continue
            codes = joint_cells(self.blocks, one.blocks, chunk)
            np.take(one.table, codes, axis=0, out=room, mode="clip")
            if block.multiplier is not None:
                room *= (block.multiplier[chunk] - one.centre)[:, None]
            high += room
        residual = (y - self.moments.centres[-1]) - high[:, 0]
        return residual, high

    def _laid_out_precisely(
        self, chunk: Chunk, start: tuple[Array, Array], added: Sequence[_Added], y: Array
    ) -> tuple[Array, Array]:
        """Do the same with sums in twice the working precision."""
        rows = len(y)
        high, low = (np.broadcast_to(part, (rows, self._root.shape[1])) for part in start)
        for one in added:
            block = self.blocks[one.blocks[0]]
            codes = np.zeros(1, dtype=np.intp) if block.codes is None else block.codes[chunk]
            more = (one.table[codes], one.lower[codes])
            if block.multiplier is not None:
                deviation = twofold.two_sum(block.multiplier[chunk], np.full(rows, -one.centre))
                more = twofold.times((deviation[0][:, None], deviation[1][:, None]), more)
            high, low = twofold.add((high, low), more)
        off = twofold.two_sum(y, np.full(rows, -self.moments.centres[-1]))
        residual = twofold.minus(off, (high[:, 0], low[:, 0]))[0]
        return residual, np.array(high)
