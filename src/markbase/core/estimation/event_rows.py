"""The rows of a logistic model: their columns a chunk at a time, and sums over them.

Levels are looked up in a small table and never laid out.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any, Self

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.chunks import joint_cells, joint_sets, row_chunks
from markbase.core.design.moments import Moments
from markbase.core.design.terms import CodedColumns
from markbase.core.estimation.likelihood_points import Theta
from markbase.core.rows.parts import each_part, in_parts, rows_at
from markbase.core.rows.row_functions import kept_rows, made_of
from markbase.core.rows.sums import total_of
from markbase.core.rows.workspace import WORKSPACE

Array = NDArray[np.float64]
PASS_ROWS = 1 << 16
"""Rows of a chunk."""
PASS_VALUES = 1 << 18
"""Numbers of a chunk: what is near the processor should hold them, but threads wait for one another at the end of each step over few."""
FARTHEST = 700.0
"""A linear predictor further out would overflow."""


@dataclass(frozen=True, eq=False)
class _Joint:
    """Groups looked up together: their joint cells are few."""

    members: tuple[int, ...]
    """Which blocks."""
    shape: tuple[int, ...]
    """Levels of each."""


@dataclass(frozen=True, eq=False)
class _Effects:
    """What columns add to the linear predictor, at one or several coefficients."""

    slopes: Array
    """Shape (coefficients, 1 + numeric columns): the start, and the slopes of numeric columns."""
    tables: list[Array]
    """Shape (coefficients, joint cells) each: of the groups looked up together."""
    by_level: list[Array]
    """Shape (coefficients, levels) each: the slopes of numeric columns that differ by level."""


@dataclass(frozen=True, eq=False)
class EventRows:
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

    def of_part(
        self, blocks: Sequence[CodedColumns], event: Array, used: NDArray[np.bool_] | None, weights: Array | None
    ) -> Self:
        """Return the rows of a part."""
        return type(self)(blocks, event, used, weights, self.moments, self.places)

    @property
    def _bare(self) -> Self:
        """The same without rows, for what is told of parts."""
        return type(self)((), np.zeros(0), None, None, self.moments, self.places)

    def kept(self) -> Self:
        """Return the rows used among those kept in memory, of rows that come in parts."""
        found = self.of_part(*kept_rows(*self._trees))
        return found if found.used is None else found.part(np.flatnonzero(found.used))

    def part(self, places: slice | NDArray[np.intp]) -> Self:
        """Return some of the rows used as rows of their own; in parts, at places that rise."""
        if in_parts(self.event) and isinstance(places, np.ndarray):
            found = self.of_part(*rows_at(places, *self._trees))
            return type(self)(found.blocks, found.event, None, found.weights, found.moments)
        blocks = [
            CodedColumns(
                b.levels,
                None if b.codes is None else b.codes[places].copy(),
                None if b.multiplier is None else b.multiplier[places].copy(),
            )
            for b in self.blocks
        ]
        weights = None if self.weights is None else self.weights[places]
        return type(self)(blocks, self.event[places], None, weights, self.moments)

    def predictor_of(self, theta: Theta) -> Array:
        """Return the linear predictor of each row of the study; NaN for a row not used."""
        if in_parts(self.event):
            bare = self._bare

            def predictor(*trees: Any) -> tuple[Array]:
                return (bare.of_part(*trees).predictor_of(theta),)

            lazily: Array = made_of(1, predictor, *self._trees)[0]
            return lazily
        found, effects = np.full(len(self.event), np.nan), self._effects([theta])
        for chunk in row_chunks(len(self.event), self.used, PASS_ROWS):
            columns, cells = self._stacked(chunk, len(self.event[chunk])), [own[chunk] for own in self._cells]
            found[chunk] = self._predictors(effects, columns, cells, chunk)[0]
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
        counts = self.sums_of(self._heavy)
        kept: NDArray[np.intp] = columns[~np.isin(columns, self.level_columns) | (counts[columns] != 0)]
        return kept

    def telling(self, columns: NDArray[np.intp]) -> NDArray[np.intp]:
        """Return those of some columns that are not levels whose rows, if there are any, all are the event or all are not, of rows in memory; a row of weight 0 is none."""
        events, others = self.sums_of(self._heavy * self.event), self.sums_of(self._heavy * (1 - self.event))
        both = (events[columns] != 0) & (others[columns] != 0)
        kept: NDArray[np.intp] = columns[~np.isin(columns, self.level_columns) | both]
        return kept

    @property
    def _heavy(self) -> Array:
        return np.ones(len(self.event)) if self.weights is None else self.weights

    @property
    def level_columns(self) -> NDArray[np.intp]:
        """The columns that are 0 in rows of other levels."""
        found = [
            np.arange(start, start + block.levels)
            for start, block in zip(self._starts, self.blocks, strict=False)
            if block.codes is not None
        ]
        return np.concatenate([np.zeros(0, dtype=np.intp), *found])

    def sums_of(self, values: Array) -> Array:
        """Return the sums over the rows of each column times some values, shape (columns,), the start's first."""
        if in_parts(self.event):
            bare = self._bare

            def summed(values: Array, *trees: Any) -> Array:
                return bare.of_part(*trees).sums_of(values)

            return total_of(each_part(summed, values, *self._trees))
        sums, by_cell = self._nothing(1)
        for chunk in row_chunks(len(self.event), self.used, PASS_ROWS):
            columns = self._stacked(chunk, len(self.event[chunk]))
            self._add(sums, by_cell, values[None, chunk], columns, [own[chunk] for own in self._cells], chunk)
        found: Array = self._share_out(sums, by_cell)[0]
        return found

    def _nothing(self, often: int) -> tuple[Array, list[Array]]:
        """Return sums of no rows for several arrays of values: shape (arrays, columns), and by the joint cells of each set of groups."""
        by_cell = [np.zeros((often, math.prod(joint.shape))) for joint in self._joints]
        return np.zeros((often, self.moments.cross.shape[0])), by_cell

    def _effects(self, thetas: Sequence[Theta]) -> _Effects:
        """Return what the columns add at some coefficients."""
        starts, slopes = np.array([theta.start for theta in thetas]), np.array([theta.slopes for theta in thetas])

        def of(k: int) -> Array:
            own: Array = slopes[:, self._starts[k] :][:, : self.blocks[k].levels]
            return own

        tables = []
        for joint in self._joints:
            table = np.zeros((len(thetas), *joint.shape))
            for axis, k in enumerate(joint.members, 1):
                table += of(k).reshape([len(thetas), *(-1 if a == axis else 1 for a in range(1, table.ndim))])
            tables.append(table.reshape(len(thetas), -1))
        numerics = np.column_stack([starts, slopes[:, self._numeric_places]])
        return _Effects(numerics, tables, [of(k) for k in self._slopes])

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
        effects: _Effects,
        columns: Array,
        cells: Sequence[NDArray[np.integer]],
        chunk: slice | NDArray[np.intp],
    ) -> Array:
        """Return the linear predictors of a chunk, shape (coefficients, rows), of ones and its numeric columns, and of its joint cells."""
        shape = len(effects.slopes), columns.shape[1]
        eta = np.dot(effects.slopes, columns, out=WORKSPACE.array("predictor", *shape))
        room = WORKSPACE.array("looked up", *shape)
        for table, own in zip(effects.tables, cells, strict=True):
            eta += np.take(table, own, axis=1, mode="clip", out=room)
        for k, slopes in zip(self._slopes, effects.by_level, strict=True):
            codes, deviation = self._slope_of(k, chunk)
            eta += slopes[:, codes] * deviation
        return eta

    @cached_property
    def _numeric_places(self) -> NDArray[np.intp]:
        return np.array([self._starts[k] for k in self._numerics], dtype=np.intp)

    def _add(
        self,
        sums: Array,
        by_cell: Sequence[Array],
        values: Array,
        columns: Array,
        cells: Sequence[NDArray[np.integer]],
        chunk: slice | NDArray[np.intp],
    ) -> None:
        """Add what a chunk contributes to the sums of the columns times several values, shape (values, rows)."""
        sums[:, np.append(0, self._numeric_places)] += np.dot(values, columns.T)
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
