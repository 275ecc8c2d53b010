"""The logistic likelihood over the rows: its value, its slope, and what its curvature is made of.

Levels are looked up in a small table and never laid out; a pass takes the rows a chunk at a time.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.chunks import joint_cells, joint_sets, row_chunks
from markbase.core.design.cross_products import gather
from markbase.core.design.gathering import Gathering, Running
from markbase.core.design.moments import Moments
from markbase.core.design.terms import CodedColumns
from markbase.core.estimation.likelihood_points import Asked, Found, Passed, Point, Theta
from markbase.core.rows.parts import each_part, in_parts, over_parts, rows_at
from markbase.core.rows.row_functions import kept_rows, made_of
from markbase.core.rows.sums import total_of, totals_of
from markbase.core.rows.workspace import WORKSPACE

Array = NDArray[np.float64]
_PASS_ROWS, _LEAST_ROWS = 1 << 16, 1 << 12
_PASS_VALUES = 1 << 18
"""Numbers of a chunk: what is near the processor should hold them, but threads wait for one another at the end of each step over few."""
_FARTHEST = 700.0
"""A linear predictor further out would overflow."""


@dataclass(frozen=True, eq=False)
class _Joint:
    """Groups looked up together: their joint cells are few."""

    members: tuple[int, ...]
    """Which blocks."""
    shape: tuple[int, ...]
    """Levels of each."""


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
    def _numerics(self) -> list[int]:
        return [k for k, b in enumerate(self.blocks) if b.codes is None]

    @cached_property
    def _slopes(self) -> list[int]:
        return [k for k, b in enumerate(self.blocks) if b.codes is not None and b.multiplier is not None]

    @cached_property
    def _joints(self) -> list[_Joint]:
        groups = [k for k, b in enumerate(self.blocks) if b.codes is not None and b.multiplier is None]
        sets = joint_sets(self.blocks, groups)
        return [_Joint(tuple(members), tuple(self.blocks[k].levels for k in members)) for members in sets]

    @cached_property
    def _cells(self) -> list[NDArray[np.int32]]:
        """Shape (rows,) each: the joint cell of each row used, else 0."""
        return [self._joint_cells(joint.members) for joint in self._joints]

    def _joint_cells(self, members: Sequence[int]) -> NDArray[np.int32]:
        cells = joint_cells(self.blocks, members, slice(None)).astype(np.int32)
        if self.used is not None:
            cells[~self.used] = 0
        return cells

    @property
    def _trees(self) -> tuple[list[CodedColumns], Array, NDArray[np.bool_] | None, Array | None]:
        return list(self.blocks), self.event, self.used, self.weights

    @property
    def _cells_in_memory(self) -> list[NDArray[np.int32]] | None:
        """The joint cells of the rows, once for all passes; None of rows in parts, where each makes its own."""
        return None if in_parts(self.event) else self._cells

    def of_part(
        self, blocks: Sequence[CodedColumns], event: Array, used: NDArray[np.bool_] | None, weights: Array | None
    ) -> Rows:
        """Return the rows of a part."""
        return Rows(blocks, event, used, weights, self.moments, self.places)

    @property
    def _bare(self) -> Rows:
        """The same without rows, for what is told of parts."""
        return Rows((), np.zeros(0), None, None, self.moments, self.places)

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
        """Return the same at several coefficients, for which the rows are gone through once."""
        bare, plan, parts = self._bare, self._gathering, in_parts(self.event)
        thetas, curved = [one.theta for one in asked], any(one.curved for one in asked)

        def passed(cells: list[NDArray[np.int32]] | None, *trees: Any) -> list[Found]:
            part = bare.of_part(*trees)
            found = part._passes(thetas, cells, curved and not parts, [plan if one.curved else None for one in asked])
            for one, own in zip(asked, found, strict=True):
                if not one.curved:
                    own.arrays = None
            return found

        by_part = over_parts(passed, self._cells_in_memory, *self._trees)
        return [self._joined(theta, [found[k] for found in by_part]) for k, theta in enumerate(thetas)]

    def _joined(self, theta: Theta, found: Sequence[Found]) -> tuple[Point, Passed]:
        """Join what was found in parts, or shares, of the rows."""
        points = [f.point for f in found]
        loglik, gradient, missed, squares = totals_of(
            (p.loglik, p.gradient, p.missed, p.missed_squares) for p in points
        )
        both = (float(missed[0]), float(missed[1]))
        point = Point(theta, float(loglik), gradient, max(p.farthest for p in points), both, float(squares))
        sums = [f.sums for f in found if f.sums is not None]
        moments = self._gathering.moments(totals_of(sums)) if sums else None
        arrays = [f.arrays for f in found if f.arrays is not None]
        if not arrays:
            return point, Passed(lambda: self._arrays_at(theta), moments)
        curvature, score = (a[0] if len(a) == 1 else np.concatenate(a) for a in zip(*arrays, strict=True))
        return point, Passed(lambda: (curvature, score), moments)

    def _arrays_at(self, theta: Theta) -> tuple[Array, Array]:
        """Return what the curvature needs of each row; of rows in parts it is made again, part by part, whenever it is asked for."""
        bare = self._bare

        def arrays(*trees: Any) -> tuple[Array, Array]:
            found = bare.of_part(*trees)._passes([theta], None, keep=True)[0].arrays
            assert found is not None
            return found

        curvature, score = made_of(2, arrays, *self._trees)
        return curvature, score

    @cached_property
    def _gathering(self) -> Gathering:
        """What moments weighted by the curvature are summed of: numeric columns from the same centres as in a pass."""
        plan = Gathering.of(self.blocks, len(self.event), self.used)
        centres = np.append(plan.centres[0], self._centres[: len(self.blocks)])
        return replace(plan, centres=centres, scales=np.ones_like(centres))

    def _passes(
        self,
        thetas: Sequence[Theta],
        cells: Sequence[NDArray[np.int32]] | None,
        keep: bool,
        plans: Sequence[Gathering | None] = (),
    ) -> list[Found]:
        """Go once through rows that are in memory, for several coefficients at the same time; keep what it finds in each of them, and take moments by plans."""
        k, event = len(thetas), self.event
        cells = self._cells if cells is None else cells
        kept = np.zeros((k, 2, len(event))) if keep else None
        sums, loglik, squares, missed = (
            np.zeros((k, self.moments.cross.shape[0])),
            np.zeros(k),
            np.zeros(k),
            np.zeros((2, k)),
        )
        tables = [np.array(own) for own in zip(*(self._tables(theta) for theta in thetas), strict=True)]
        by_cell, farthest = [np.zeros_like(table) for table in tables], np.zeros(k)
        running = {i: Running(plan) for i, plan in enumerate(plans) if plan is not None}
        size = min(_PASS_ROWS, max(_LEAST_ROWS, _PASS_VALUES // (k + len(self._numerics))))
        for chunk in row_chunks(len(event), self.used, size):
            happened = event[chunk]
            values = self._stacked(chunk, len(happened))
            numerics, here = values[1:], [own[chunk].astype(np.intp) for own in cells]
            margin = self._predictors(thetas, numerics, tables, here, chunk)
            sign = 2 * happened - 1
            margin *= sign
            reach = np.maximum(margin.max(axis=1, initial=0.0), -margin.min(axis=1, initial=0.0))
            np.maximum(farthest, reach, out=farthest)
            if reach.max() > _FARTHEST:
                np.clip(margin, -_FARTHEST, _FARTHEST, out=margin)
            growth = np.exp(margin, out=margin)  # of what happened, p is e^m/(1 + e^m) and what it misses 1/(1 + e^m)
            miss = np.add(growth, 1, out=WORKSPACE.array("missed", *growth.shape))
            np.divide(1, miss, out=miss)
            hit = np.multiply(growth, miss, out=growth)
            w = None if self.weights is None else self.weights[chunk]
            if w is None:
                loglik += _sums_of_logs(hit)
                missed += miss @ happened, miss.sum(axis=1)
                squares += np.einsum("kn,kn->k", miss, miss)
            else:
                loglik += np.log(hit) @ w
                missed += miss @ (happened * w), miss @ w
                squares += np.einsum("kn,kn,n->k", miss, miss, w)
            if kept is not None or running:
                curvature = np.multiply(miss, hit, out=hit)
                if reach.max() > _FARTHEST - 10:
                    np.maximum(curvature, 1e-300, out=curvature)
                if w is not None:
                    curvature *= w
                if kept is not None:
                    kept[:, 0, chunk] = curvature
                for i, sums_at in running.items():
                    weighted = np.multiply(values, curvature[i], out=WORKSPACE.array("weighted", *values.shape))
                    sums_at.add(self.blocks, chunk, values, weighted, curvature[i], here)
            score = np.multiply(miss, sign, out=miss)
            if w is not None:
                score *= w
            if kept is not None:
                kept[:, 1, chunk] = score
            self._add(sums, by_cell, score, numerics, here, chunk)
        whole = self._share_out(sums, by_cell)
        return [
            Found(
                Point(
                    theta,
                    float(loglik[i]),
                    whole[i],
                    float(farthest[i]),
                    (float(missed[0, i]), float(missed[1, i] - missed[0, i])),
                    float(squares[i]),
                ),
                None if kept is None else (kept[i, 0], kept[i, 1]),
                running[i].sums if i in running else None,
            )
            for i, theta in enumerate(thetas)
        ]

    def predictor_of(self, theta: Theta) -> Array:
        """Return the linear predictor of each row of the study; NaN for a row not used."""
        if in_parts(self.event):
            bare = self._bare

            def predictor(*trees: Any) -> tuple[Array]:
                return (bare.of_part(*trees).predictor_of(theta),)

            lazily: Array = made_of(1, predictor, *self._trees)[0]
            return lazily
        found, tables = np.full(len(self.event), np.nan), [table[None, :] for table in self._tables(theta)]
        for chunk in row_chunks(len(self.event), self.used, _PASS_ROWS):
            numerics = self._stacked(chunk, len(self.event[chunk]))[1:]
            cells = [own[chunk] for own in self._cells]
            found[chunk] = self._predictors([theta], numerics, tables, cells, chunk)[0]
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

    def occurring(self, columns: NDArray[np.intp]) -> NDArray[np.intp]:
        """Return those of some columns that are not levels without a row, of rows in memory; a row of weight 0 is none."""
        counts = self.sums_of(np.ones(len(self.event)) if self.weights is None else self.weights)
        in_levels = np.zeros(len(counts), dtype=bool)
        for start, block in zip(self._starts, self.blocks, strict=False):
            in_levels[start : start + block.levels] = block.codes is not None
        kept: NDArray[np.intp] = columns[~in_levels[columns] | (counts[columns] != 0)]
        return kept

    def sums_of(self, values: Array) -> Array:
        """Return the sums over the rows of each column times some values, shape (columns,), the start's first."""
        if in_parts(self.event):
            bare = self._bare

            def summed(values: Array, *trees: Any) -> Array:
                return bare.of_part(*trees).sums_of(values)

            return total_of(each_part(summed, values, *self._trees))
        alone: Array = self.sums_of_each(values[None, :])[0]
        return alone

    def sums_of_each(self, values: Array) -> Array:
        """Return the same of several arrays of values of rows in memory, shape (arrays, rows): shape (arrays, columns)."""
        sums = np.zeros((len(values), self.moments.cross.shape[0]))
        by_cell = [np.zeros((len(values), math.prod(joint.shape))) for joint in self._joints]
        for chunk in row_chunks(len(self.event), self.used, _PASS_ROWS):
            numerics = self._stacked(chunk, len(self.event[chunk]))[1:]
            self._add(sums, by_cell, values[:, chunk], numerics, [own[chunk] for own in self._cells], chunk)
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

    def _stacked(self, chunk: slice | NDArray[np.intp], size: int) -> Array:
        """Return ones and the numeric columns of a chunk from their centres, shape (1 + numeric columns, rows)."""
        found = WORKSPACE.array("numeric columns", 1 + len(self._numerics), size)
        found[0] = 1.0
        for row, k in zip(found[1:], self._numerics, strict=True):
            x = self.blocks[k].multiplier
            assert x is not None
            np.subtract(x[chunk], self._centres[k], out=row)
        return found

    def _slope_of(self, k: int, chunk: slice | NDArray[np.intp]) -> tuple[NDArray[np.integer], Array]:
        block = self.blocks[k]
        assert block.codes is not None
        assert block.multiplier is not None
        return block.codes[chunk], block.multiplier[chunk] - self._centres[k]

    def _predictors(
        self,
        thetas: Sequence[Theta],
        numerics: Array,
        tables: Sequence[Array],
        cells: Sequence[NDArray[np.integer]],
        chunk: slice | NDArray[np.intp],
    ) -> Array:
        """Return the linear predictors of a chunk, shape (coefficients, rows), of its numeric columns and joint cells."""
        at = self._numeric_places
        slopes = np.array([theta.slopes[at] for theta in thetas])
        shape = len(thetas), numerics.shape[1]
        eta = np.matmul(slopes, numerics, out=WORKSPACE.array("predictor", *shape))
        room = WORKSPACE.array("looked up", *shape)
        eta += np.array([[theta.start] for theta in thetas])
        for table, own in zip(tables, cells, strict=True):
            eta += np.take(table, own, axis=1, mode="clip", out=room)
        for k in self._slopes:
            codes, deviation = self._slope_of(k, chunk)
            own_slopes = np.array([theta.slopes[self._starts[k] :][: self.blocks[k].levels] for theta in thetas])
            eta += own_slopes[:, codes] * deviation
        return eta

    @cached_property
    def _numeric_places(self) -> NDArray[np.intp]:
        return np.array([self._starts[k] for k in self._numerics], dtype=np.intp)

    def _add(
        self,
        sums: Array,
        by_cell: Sequence[Array],
        values: Array,
        numerics: Array,
        cells: Sequence[NDArray[np.integer]],
        chunk: slice | NDArray[np.intp],
    ) -> None:
        """Add what a chunk contributes to the sums of the columns times several values, shape (values, rows)."""
        sums[:, 0] += values.sum(axis=1)
        sums[:, self._numeric_places] += values @ numerics.T
        for own, table in zip(cells, by_cell, strict=True):
            for row, value in zip(table, values, strict=True):
                row += np.bincount(own, weights=value, minlength=len(row))
        for k in self._slopes:
            codes, deviation = self._slope_of(k, chunk)
            at = slice(self._starts[k], self._starts[k] + self.blocks[k].levels)
            for row, value in zip(sums, values, strict=True):
                row[at] += np.bincount(codes, weights=value * deviation, minlength=self.blocks[k].levels)

    def _share_out(self, sums: Array, by_cell: Sequence[Array]) -> Array:
        """Read the sums by level out of those by joint cell."""
        for joint, flat in zip(self._joints, by_cell, strict=True):
            table = flat.reshape(-1, *joint.shape)
            for axis, k in enumerate(joint.members, 1):
                others = tuple(a for a in range(1, table.ndim) if a != axis)
                start = self._starts[k]
                sums[:, start : start + table.shape[axis]] = table.sum(axis=others)
        return sums


def _sums_of_logs(shares: Array) -> Array:
    """Return Σ log s of each row for s from 0 to 1, as the logarithms of products of 8 where none is very small."""
    size = shares.shape[1] // 8
    if not size or shares.min() < 1e-35:
        each: Array = np.log(shares).sum(axis=1)
        return each
    products = shares[:, :size].copy()
    for k in range(1, 8):
        products *= shares[:, k * size : (k + 1) * size]
    found: Array = np.log(products).sum(axis=1) + np.log(shares[:, 8 * size :]).sum(axis=1)
    return found
