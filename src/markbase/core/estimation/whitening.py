"""Rows in coordinates in which the cross-products are the identity: leverages, residuals and scores come from them."""

from __future__ import annotations

import copy
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from functools import partial
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from markbase.core import extended_precision as twofold
from markbase.core.design.cross_products import row_chunks
from markbase.core.design.moments import Moments
from markbase.core.design.terms import CodedColumns
from markbase.core.estimation.fixed_effects import FixedEffects
from markbase.core.estimation.least_squares_solution import Solution
from markbase.core.rows.parts import each_part, rows_at
from markbase.core.rows.row_functions import made_of

T = TypeVar("T")
Array = NDArray[np.float64]
Chunk = slice | NDArray[np.intp]
_CELLS = 1 << 22


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
        self._root = np.hstack([s.root, s.coefficients[:, None]])  # what each column adds to Q, and to the fit
        self._lower = np.hstack([s.root_lower, s.lower[:, None]])

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
        bare = copy.copy(self)
        bare.blocks, bare.used, bare.weights = (), None, None
        fixed, codes = self.fixed_effects, None
        if fixed is not None:
            codes, bare.fixed_effects = fixed.codes, replace(fixed, codes=np.zeros(0, dtype=np.intp), columns=())

        def of_part(
            blocks: Sequence[CodedColumns],
            used: NDArray[np.bool_] | None,
            weights: Array | None,
            codes: NDArray[np.intp] | None,
            *more: Any,
        ) -> Any:
            own = copy.copy(bare)
            own.blocks, own.used, own.weights = blocks, used, weights
            if own.fixed_effects is not None and codes is not None:
                own.fixed_effects = replace(own.fixed_effects, codes=codes)
            return function(own, *more)

        return apply(of_part, list(self.blocks), self.used, self.weights, codes, *trees)

    def at_rows(self, rows: NDArray[np.intp]) -> Whitened:
        """Return some of the rows, by their places, which rise; they are in memory."""
        own, fixed = copy.copy(self), self.fixed_effects
        blocks = [(b.codes, b.multiplier) for b in self.blocks]
        codes = None if fixed is None else fixed.codes
        some, own.weights, codes = rows_at(rows, blocks, self.weights, codes)
        own.blocks = [CodedColumns(b.levels, *pair) for b, pair in zip(self.blocks, some, strict=True)]
        own.used, own.fixed_effects = None, None if fixed is None else replace(fixed, codes=codes)
        return own

    def _starts(self) -> tuple[Array, Array]:
        """Return what Q and the fit begin from, high and low parts: one row, or one for each level taken out."""
        s = self.solution
        if self.fixed_effects is None:
            y_centre = np.array([self.moments.centres[-1]])
            offset = twofold.minus((np.array([s.at_centres[0]]), np.array([s.at_centres[1]])), (y_centre, np.zeros(1)))
            above = twofold.minus((s.means, s.means_lower), (s.centres, np.zeros_like(s.centres)))
            whole = (np.zeros(s.root.shape[1]), np.zeros(s.root.shape[1]))
            for k in range(len(s.means)):
                term = twofold.times((-above[0][k : k + 1], -above[1][k : k + 1]), (s.root[k], s.root_lower[k]))
                whole = twofold.add(whole, term)
            return np.append(whole[0], offset[0])[None, :], np.append(whole[1], offset[1])[None, :]
        means, outcome = self.fixed_effects.means(self.moments)
        own = means[s.columns].T
        start = np.hstack([-(own @ s.root), (outcome - own @ s.coefficients)[:, None]])
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
        start = self._starts()
        size = max(1024, min(1 << 16, _CELLS // (p + 1)))
        for chunk in row_chunks(len(y), self.used, size):
            at = 0 if self.fixed_effects is None else self.fixed_effects.codes[chunk]
            rows = len(y[chunk])
            high = np.empty((rows, p + 1))
            high[:] = start[0][at]
            low = np.zeros((rows, p + 1)) if self._precise else None
            if low is not None:
                low[:] = start[1][at]
            for added in self._contributions(chunk):
                if low is None:
                    high += added[0]
                else:
                    high, low = twofold.add((high, low), added)
            y_off = twofold.two_sum(y[chunk], np.full(rows, -self.moments.centres[-1]))
            fit = (high[:, -1], np.zeros(rows) if low is None else low[:, -1])
            residual = y_off[0] - fit[0] if low is None else twofold.minus(y_off, fit)[0]
            Q = np.empty((rows, p + 1))
            Q[:, 0] = 1 / np.sqrt(s.weight)
            Q[:, 1:] = high[:, :-1]
            if self.fixed_effects is not None:  # a row that is a level of its own is fitted exactly
                lone = self.fixed_effects.rows_at[at] == 1
                Q[lone, 1:], residual[lone] = 0.0, 0.0
            yield chunk, Q, residual, np.ones(rows) if self.weights is None else self.weights[chunk]

    def _contributions(self, chunk: Chunk) -> Iterator[tuple[Array, Array]]:
        """Yield what each component adds to Q and, behind it, to the fit, high and low parts, shape (rows, p + 1)."""
        inner = {int(c): k for k, c in enumerate(self.solution.columns)}
        for k_block, (block, first) in enumerate(zip(self.blocks[:-1], self.moments.starts[1:], strict=False), 1):
            places = [inner.get(int(first) + level, -1) for level in range(block.levels)]
            if all(place < 0 for place in places):
                continue
            table, lower = np.zeros((block.levels, self._root.shape[1])), np.zeros((block.levels, self._root.shape[1]))
            told = np.array(places) >= 0
            table[told] = self._root[np.array(places)[told]]
            lower[told] = self._lower[np.array(places)[told]]
            codes = np.zeros(1, dtype=np.intp) if block.codes is None else block.codes[chunk]
            looked_up = (table[codes], lower[codes])
            if block.multiplier is None:
                yield looked_up
                continue
            centre = float(self.moments.centres[k_block])
            if not self._precise:
                yield (block.multiplier[chunk] - centre)[:, None] * looked_up[0], looked_up[1]
                continue
            deviation = twofold.two_sum(block.multiplier[chunk], np.full(len(block.multiplier[chunk]), -centre))
            yield twofold.times((deviation[0][:, None], deviation[1][:, None]), looked_up)
