"""The logistic likelihood over the rows: its value, its slope, and what its curvature is made of.

Levels are looked up in a small table and never laid out; a pass takes the rows a chunk at a time.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.cross_products import Gathering, Sums, gather, joint_sets, row_chunks
from markbase.core.design.moments import Moments
from markbase.core.design.terms import CodedColumns
from markbase.core.rows.parts import each_part, in_parts, over_parts, rows_at
from markbase.core.rows.row_functions import at_once, kept_rows, made_of
from markbase.core.rows.sums import total_of, totals_of

Array = NDArray[np.float64]
_PASS_ROWS = 1 << 15
_SAMPLE_ROWS = 4096
_FARTHEST = 700.0
"""A linear predictor further out would overflow."""
_NEAR = 64.0
"""A numeric column whose centre is no more of its standard deviations than this from 0 enters as it is: that costs less than two digits."""


@dataclass(frozen=True, eq=False)
class Theta:
    """Coefficients of a logistic model."""

    start: float
    """The linear predictor where every column is at its centre."""
    slopes: Array
    """Shape (columns of the moments,): in the units of the data; 0 for columns that are not inner ones."""

    def moved(self, columns: NDArray[np.intp], step: Array, size: float = 1.0) -> Theta:
        """Return coefficients a step further: of the start first, then of the inner columns."""
        slopes = self.slopes.copy()
        slopes[columns] += size * step[1:]
        return Theta(self.start + size * float(step[0]), slopes)


@dataclass(frozen=True, eq=False)
class Asked:
    """Where a pass over the rows is asked for."""

    theta: Theta
    """The coefficients."""
    curved: bool = False
    """Whether the moments weighted by the curvature will be asked for there as well: rows that come in parts are then read once for both."""


@dataclass(frozen=True, eq=False)
class Point:
    """The likelihood at some coefficients."""

    theta: Theta
    """The coefficients."""
    loglik: float
    """The log-likelihood."""
    gradient: Array
    """Shape (columns of the moments,): its slope, the start's first."""
    farthest: float
    """The largest absolute linear predictor."""
    missed: tuple[float, float]
    """Weighted sums of 1 − p where the event happened, and of p where it did not."""
    missed_squares: float
    """Weighted sum of (event − p)²."""


@dataclass(frozen=True, eq=False)
class Passed:
    """What a pass over the rows finds in each of them."""

    curvature: Array
    """Shape (rows,): weight times p(1 − p); 0 in rows not used."""
    score: Array
    """Shape (rows,): weight times (event − p); 0 in rows not used."""
    moments: Moments | None = None
    """Moments weighted by the curvature, where they were taken in the same pass."""


@dataclass(frozen=True, eq=False)
class _Joint:
    """Groups looked up together: their joint cells are few."""

    members: tuple[int, ...]
    """Which blocks."""
    shape: tuple[int, ...]
    """Levels of each."""
    cells: NDArray[np.int32]
    """Shape (rows,): the joint cell of each row used, else 0."""


@dataclass(frozen=True, eq=False)
class Rows:
    """The rows of a logistic model."""

    blocks: Sequence[CodedColumns]
    """The terms."""
    event: Array
    """Shape (rows,): 1 for the event, 0 otherwise."""
    used: NDArray[np.bool_] | None
    """Shape (rows,): the rows used; None for all."""
    weights: Array | None
    """Shape (rows,): with how much each row counts."""
    moments: Moments
    """Unweighted moments of the terms, for sizes and centres."""
    places: tuple[int, ...] | None = None
    """Which blocks of the moments, less 1, these are; None for all of them in order."""

    @cached_property
    def _starts(self) -> NDArray[np.intp]:
        """Shape (blocks,): where the columns of each block begin."""
        found: NDArray[np.intp] = self.moments.starts[1:]
        return found if self.places is None else found[list(self.places)]

    @cached_property
    def _centres(self) -> Array:
        """Shape (blocks,): what is taken from each numeric column."""
        found: Array = self.moments.centres[1:]
        return found if self.places is None else found[list(self.places)]

    @cached_property
    def _numerics(self) -> list[tuple[int, float]]:
        return [(k, self._offset(k)) for k, b in enumerate(self.blocks) if b.codes is None]

    @cached_property
    def _slopes(self) -> list[int]:
        return [k for k, b in enumerate(self.blocks) if b.codes is not None and b.multiplier is not None]

    @cached_property
    def _joints(self) -> list[_Joint]:
        groups = [k for k, b in enumerate(self.blocks) if b.codes is not None and b.multiplier is None]
        return [self._join(members) for members in joint_sets(self.blocks, groups)]

    def _offset(self, k: int) -> float:
        """Return what is taken from a numeric column before it is multiplied: its centre, or 0 where that is near."""
        centre, x = float(self._centres[k]), self.blocks[k].multiplier
        assert x is not None
        sample = x if self.used is None else x[self.used]
        sample = sample[:: len(sample) // _SAMPLE_ROWS + 1]
        return 0.0 if len(sample) and abs(centre) <= _NEAR * float(sample.std()) else centre

    def _join(self, members: Sequence[int]) -> _Joint:
        cells = np.zeros(len(self.event), dtype=np.int32)
        for k in members:
            codes = self.blocks[k].codes
            assert codes is not None
            cells *= self.blocks[k].levels
            cells += codes
        if self.used is not None:
            cells[~self.used] = 0
        return _Joint(tuple(members), tuple(self.blocks[k].levels for k in members), cells)

    @property
    def _trees(self) -> tuple[list[CodedColumns], Array, NDArray[np.bool_] | None, Array | None]:
        return list(self.blocks), self.event, self.used, self.weights

    def of_part(
        self, blocks: Sequence[CodedColumns], event: Array, used: NDArray[np.bool_] | None, weights: Array | None
    ) -> Rows:
        """Return the rows of a part."""
        return Rows(blocks, event, used, weights, self.moments)

    @property
    def _bare(self) -> Rows:
        """The same without rows, for what is told of parts."""
        return Rows((), np.zeros(0), None, None, self.moments)

    def kept(self) -> Rows:
        """Return the rows used among those kept in memory, of rows that come in parts."""
        found = self.of_part(*kept_rows(*self._trees))
        return found if found.used is None else found.part(np.flatnonzero(found.used))

    def part(self, places: slice | NDArray[np.intp]) -> Rows:
        """Return some of the rows used as rows of their own; in parts, at places that rise."""
        if in_parts(self.event) and isinstance(places, np.ndarray):
            found = self.of_part(*rows_at(places, *self._trees))
            return Rows(found.blocks, found.event, None, found.weights, found.moments)
        blocks = [
            CodedColumns(
                b.levels,
                None if b.codes is None else b.codes[places].copy(),
                None if b.multiplier is None else b.multiplier[places].copy(),
            )
            for b in self.blocks
        ]
        weights = None if self.weights is None else self.weights[places]
        return Rows(blocks, self.event[places], None, weights, self.moments)

    def pass_at(self, theta: Theta) -> tuple[Point, Passed]:
        """Return the likelihood and its slope at some coefficients, and what the curvature needs of each row."""
        return self.passes_at([Asked(theta)])[0]

    def passes_at(self, asked: Sequence[Asked]) -> list[tuple[Point, Passed]]:
        """Return the same at several coefficients; rows in parts are read once for all of them."""
        if not in_parts(self.event):
            return at_once(lambda one: self._pass_at(one.theta), asked, len(self.event))
        bare, plan = self._bare, self._gathering

        def points(*trees: Any) -> list[tuple[Point, Sums | None]]:
            part, found = bare.of_part(*trees), []
            for one in asked:
                point, passed = part._pass_at(one.theta)
                found.append((point, plan.sums(part.blocks, part.used, passed.curvature) if one.curved else None))
            return found

        parts = over_parts(points, *self._trees)
        return [
            (
                _joined(one.theta, [part[k][0] for part in parts]),
                self._passed_at(one.theta, [part[k][1] for part in parts]),
            )
            for k, one in enumerate(asked)
        ]

    @cached_property
    def _gathering(self) -> Gathering:
        return Gathering.of(self.blocks, len(self.event), self.used)

    def _passed_at(self, theta: Theta, sums: Sequence[Sums | None]) -> Passed:
        """Return what the curvature needs of each row in parts: it is made again, part by part, whenever it is asked for."""
        bare = self._bare

        def arrays(*trees: Any) -> tuple[Array, Array]:
            found = bare.of_part(*trees)._pass_at(theta)[1]
            return found.curvature, found.score

        taken = [part for part in sums if part is not None]
        moments = self._gathering.moments(totals_of(taken)) if taken else None
        curvature, score = made_of(2, arrays, *self._trees)
        return Passed(curvature, score, moments)

    def _pass_at(self, theta: Theta) -> tuple[Point, Passed]:
        curvatures, scores = np.zeros(len(self.event)), np.zeros(len(self.event))
        loglik, farthest, squares, missed = 0.0, 0.0, 0.0, np.zeros(2)
        sums = np.zeros(self.moments.cross.shape[0])
        tables, by_cell = self._tables(theta), self._cells()
        for chunk in row_chunks(len(self.event), self.used, _PASS_ROWS):
            event = self.event[chunk]
            sign = 2 * event - 1
            margin = self._predictor(theta, tables, chunk, len(event))
            margin *= sign
            reach = max(float(margin.max(initial=0.0)), -float(margin.min(initial=0.0)))
            if reach > _FARTHEST:
                np.clip(margin, -_FARTHEST, _FARTHEST, out=margin)
            farthest = max(farthest, reach)
            growth = np.exp(margin, out=margin)  # of what happened, p is e^m/(1 + e^m) and what it misses 1/(1 + e^m)
            miss = growth + 1
            np.divide(1, miss, out=miss)
            hit = np.multiply(growth, miss, out=growth)
            w = None if self.weights is None else self.weights[chunk]
            if w is None:
                loglik += _sum_of_logs(hit)
                missed += _dot(miss, event), float(miss.sum())
                squares += _dot(miss, miss)
            else:
                loglik += _dot(np.log(hit), w)
                missed += _dot(miss, event * w), _dot(miss, w)
                squares += _dot(miss, miss * w)
            curvature = np.multiply(miss, hit, out=hit)
            if reach > _FARTHEST - 10:
                np.maximum(curvature, 1e-300, out=curvature)
            miss *= sign
            if w is not None:
                miss *= w
                curvature *= w
            scores[chunk], curvatures[chunk] = miss, curvature
            self._add(sums, by_cell, miss, chunk)
        both = (float(missed[0]), float(missed[1] - missed[0]))
        point = Point(theta, loglik, self._share_out(sums, by_cell), farthest, both, squares)
        return point, Passed(curvatures, scores)

    def predictor_of(self, theta: Theta) -> Array:
        """Return the linear predictor of each row of the study; NaN for a row not used."""
        if in_parts(self.event):
            bare = self._bare

            def predictor(*trees: Any) -> tuple[Array]:
                return (bare.of_part(*trees).predictor_of(theta),)

            lazily: Array = made_of(1, predictor, *self._trees)[0]
            return lazily
        found, tables = np.full(len(self.event), np.nan), self._tables(theta)
        for chunk in row_chunks(len(self.event), self.used, _PASS_ROWS):
            found[chunk] = self._predictor(theta, tables, chunk, len(self.event[chunk]))
        return found

    def dense(self, columns: NDArray[np.intp], places: NDArray[np.intp]) -> Array:
        """Lay some rows out as a column of ones and their inner columns from their centres, shape (rows, 1 + p)."""
        inner = {int(c): k for k, c in enumerate(columns.tolist(), 1)}
        X = np.zeros((len(places), len(columns) + 1))
        X[:, 0] = 1.0
        for k, block in enumerate(self.blocks):
            first = int(self._starts[k])
            values = np.ones(len(places))
            if block.multiplier is not None:
                values = block.multiplier[places] - self._centres[k]
            if block.codes is None:
                if first in inner:
                    X[:, inner[first]] = values
                continue
            at = np.array([inner.get(first + level, -1) for level in range(block.levels)])[block.codes[places]]
            told = np.flatnonzero(at >= 0)
            X[told, at[told]] = values[told]
        return X

    def sums_of(self, values: Array) -> Array:
        """Return the sums over the rows of each column times some values, shape (columns,), the start's first."""
        if in_parts(self.event):
            bare = self._bare

            def summed(values: Array, *trees: Any) -> Array:
                return bare.of_part(*trees).sums_of(values)

            return total_of(each_part(summed, values, *self._trees))
        sums, by_cell = np.zeros(self.moments.cross.shape[0]), self._cells()
        for chunk in row_chunks(len(self.event), self.used, _PASS_ROWS):
            self._add(sums, by_cell, values[chunk], chunk)
        return self._share_out(sums, by_cell)

    def curved(self, passed: Passed) -> tuple[Moments, list[CodedColumns]]:
        """Return the moments weighted by the curvature at a point that was passed.

        The working residual stands behind the terms as the outcome, but its products are not taken: steps
        go by the gradient.
        """
        terms = passed.moments
        if terms is None:
            terms = gather(self.blocks, len(self.event), self.used, passed.curvature)
        width = terms.cross.shape[0]
        cross = np.zeros((width + 1, width + 1))
        cross[:-1, :-1], cross[-1, -1] = terms.cross, 1.0
        centres, scales = np.append(terms.centres, 0.0), np.append(terms.scales, 1.0)
        curved = passed.curvature > 0
        working = np.where(curved, passed.score / np.where(curved, passed.curvature, 1.0), 0.0)
        blocks = [*self.blocks, CodedColumns(1, multiplier=working)]
        return Moments((*terms.sizes, 1), centres, scales, cross), blocks

    def _tables(self, theta: Theta) -> list[Array]:
        """Return the joint effect of each cell of the groups looked up together."""
        tables = []
        for joint in self._joints:
            table = np.zeros(joint.shape)
            for axis, k in enumerate(joint.members):
                own = theta.slopes[self._starts[k] :][: joint.shape[axis]]
                table += own.reshape([-1 if a == axis else 1 for a in range(table.ndim)])
            tables.append(table.ravel())
        return tables

    def _numeric(self, k: int, offset: float, chunk: slice | NDArray[np.intp]) -> Array:
        x = self.blocks[k].multiplier
        assert x is not None
        return x[chunk] - offset if offset else x[chunk]

    def _slope_of(self, k: int, chunk: slice | NDArray[np.intp]) -> tuple[NDArray[np.integer], Array]:
        block = self.blocks[k]
        assert block.codes is not None
        assert block.multiplier is not None
        return block.codes[chunk], block.multiplier[chunk] - self._centres[k]

    def _predictor(self, theta: Theta, tables: Sequence[Array], chunk: slice | NDArray[np.intp], size: int) -> Array:
        starts = self._starts
        slopes = [(k, offset, float(theta.slopes[starts[k]])) for k, offset in self._numerics]
        shifts = [slope * (offset - self._centres[k]) for k, offset, slope in slopes]
        eta, room = np.full(size, math.fsum([theta.start, *shifts])), np.empty(size)
        for k, offset, slope in slopes:
            eta += np.multiply(self._numeric(k, offset, chunk), slope, out=room)
        for joint, table in zip(self._joints, tables, strict=True):
            eta += table[joint.cells[chunk]]
        for k in self._slopes:
            codes, deviation = self._slope_of(k, chunk)
            eta += theta.slopes[starts[k] :][codes] * deviation
        return eta

    def _cells(self) -> list[Array]:
        """Return room for sums by joint cell."""
        return [np.zeros(int(np.prod(joint.shape))) for joint in self._joints]

    def _add(self, sums: Array, by_cell: list[Array], values: Array, chunk: slice | NDArray[np.intp]) -> None:
        """Add what a chunk contributes to the sums of the columns times some values."""
        starts = self._starts
        whole = float(values.sum())
        sums[0] += whole
        for k, offset in self._numerics:
            product = _dot(self._numeric(k, offset, chunk), values)
            sums[starts[k]] += product + (offset - self._centres[k]) * whole
        for joint, table in zip(self._joints, by_cell, strict=True):
            table += np.bincount(joint.cells[chunk], weights=values, minlength=len(table))
        for k in self._slopes:
            codes, deviation = self._slope_of(k, chunk)
            own = np.bincount(codes, weights=values * deviation, minlength=self.blocks[k].levels)
            sums[starts[k] : starts[k] + self.blocks[k].levels] += own

    def _share_out(self, sums: Array, by_cell: Sequence[Array]) -> Array:
        """Read the sums by level out of those by joint cell."""
        for joint, flat in zip(self._joints, by_cell, strict=True):
            table = flat.reshape(joint.shape)
            for axis, k in enumerate(joint.members):
                others = tuple(a for a in range(table.ndim) if a != axis)
                start = self._starts[k]
                sums[start : start + joint.shape[axis]] = table.sum(axis=others)
        return sums


def _joined(theta: Theta, points: Sequence[Point]) -> Point:
    """Return the likelihood of all parts."""
    loglik, gradient, missed, squares = totals_of((p.loglik, p.gradient, p.missed, p.missed_squares) for p in points)
    both = (float(missed[0]), float(missed[1]))
    return Point(theta, float(loglik), gradient, max(p.farthest for p in points), both, float(squares))


def _dot(a: Array, b: Array) -> float:
    """Return the sum of products, without the threads that BLAS would start and wait for."""
    return float(np.einsum("i,i->", a, b))


def _sum_of_logs(shares: Array) -> float:
    """Return Σ log s for s from 0 to 1, as the logarithms of products of 8 where none is very small."""
    whole = len(shares) // 8 * 8
    if not whole or shares.min() < 1e-35:
        return float(np.log(shares).sum())
    products = shares[0:whole:8].copy()
    for k in range(1, 8):
        products *= shares[k:whole:8]
    return float(np.log(products).sum() + np.log(shares[whole:]).sum())


def probability(eta: Array) -> Array:
    """Return 1 / (1 + exp(−eta)), without overflow."""
    tail = np.exp(-np.abs(eta))
    likely: Array = np.where(eta >= 0, 1.0, tail) / (1 + tail)
    return likely
