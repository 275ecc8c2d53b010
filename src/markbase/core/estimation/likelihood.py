"""The logistic likelihood over the rows: its value, its slope, and what its curvature is made of.

Levels are looked up in a small table and never laid out; a pass takes the rows a chunk at a time.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.chunks import row_chunks
from markbase.core.design.cross_products import SumsPlan, gather
from markbase.core.design.gathering import Gathering, Running
from markbase.core.design.moments import Moments
from markbase.core.design.terms import CodedColumns
from markbase.core.estimation.event_rows import FARTHEST, PASS_ROWS, PASS_VALUES, EventRows
from markbase.core.estimation.likelihood_points import Asked, Found, Passed, Point, Theta
from markbase.core.rows.parts import in_parts, over_parts
from markbase.core.rows.row_functions import made_of
from markbase.core.rows.sums import totals_of
from markbase.core.rows.workspace import WORKSPACE

Array = NDArray[np.float64]
_LEAST_ROWS = 1 << 12


class Likelihood(EventRows):
    """The likelihood over the rows of a logistic model."""

    @property
    def _cells_in_memory(self) -> list[NDArray[np.int32]] | None:
        """The joint cells of the rows, once for all passes; None of rows in parts, where each makes its own."""
        return None if in_parts(self.event) else self._cells

    def pass_at(self, theta: Theta) -> tuple[Point, Passed]:
        """Return the likelihood and its slope at some coefficients, and what the curvature needs of each row."""
        return self.passes_at([Asked(theta)])[0]

    def passes_at(self, asked: Sequence[Asked]) -> list[tuple[Point, Passed]]:
        """Return the same at several coefficients, for which the rows are gone through once."""
        bare, plan, parts = self._bare, self._gathering, in_parts(self.event)
        thetas, curved = [one.theta for one in asked], any(one.curved for one in asked)

        def passed(cells: list[NDArray[np.int32]] | None, *trees: Any) -> list[Found]:
            part = bare.of_part(*trees)
            plans = [plan if one.curved else None for one in asked]
            found = part._passes(thetas, cells, curved and not parts, plans, any(one.missed for one in asked))
            for one, own in zip(asked, found, strict=True):
                if not one.curved:
                    own.arrays = None
            return found

        by_part = over_parts(passed, self._cells_in_memory, *self._trees)
        return [self._joined(theta, [found[k] for found in by_part]) for k, theta in enumerate(thetas)]

    def first_pass_at(self, theta: Theta) -> tuple[Moments, Point, Passed]:
        """Return what `pass_at` does, the curvature taken with it, and what `gather_sums` does: rows in parts are read once for both."""
        bare, plan, of_sums = self._bare, self._gathering, SumsPlan.of(self.blocks, self.used)

        def passed(*trees: Any) -> tuple[Found, tuple[Array, ...]]:
            blocks, event, used, _ = trees
            return bare.of_part(*trees)._passes([theta], None, False, [plan])[0], of_sums.sums(blocks, event, used)

        by_part = over_parts(passed, *self._trees)
        return of_sums.moments(sums for _, sums in by_part), *self._joined(theta, [found for found, _ in by_part])

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
        misses: bool = True,
    ) -> list[Found]:
        """Go once through rows that are in memory, for several coefficients at the same time.

        Keep what it finds in each of them, take moments by plans, and sum up what is missed.
        """
        k, event = len(thetas), self.event
        cells = self._cells if cells is None else cells
        kept = np.zeros((k, 2, len(event))) if keep else None
        loglik, squares, missed = np.zeros(k), np.zeros(k), np.zeros((2, k))
        effects = self._effects(thetas)
        (sums, by_cell), farthest = self._nothing(k), np.zeros(k)
        running = {i: Running(plan) for i, plan in enumerate(plans) if plan is not None}
        size = min(PASS_ROWS, max(_LEAST_ROWS, PASS_VALUES // (k + len(self._numerics))))
        for chunk in row_chunks(len(event), self.used, size):
            happened = event[chunk]
            values = self._stacked(chunk, len(happened))
            here = [own[chunk].astype(np.intp) for own in cells]  # counting would do it for each of them
            margin = self._predictors(effects, values, here, chunk)
            sign = np.multiply(happened, 2, out=WORKSPACE.array("sign", len(happened)))
            sign -= 1
            margin *= sign
            reach = np.maximum(margin.max(axis=1, initial=0.0), -margin.min(axis=1, initial=0.0))
            np.maximum(farthest, reach, out=farthest)
            if reach.max() > FARTHEST:
                np.clip(margin, -FARTHEST, FARTHEST, out=margin)
            growth = np.exp(margin, out=margin)  # of what happened, p is e^m/(1 + e^m) and what it misses 1/(1 + e^m)
            miss = np.add(growth, 1, out=WORKSPACE.array("missed", *growth.shape))
            np.divide(1, miss, out=miss)
            hit = np.multiply(growth, miss, out=growth)
            w = None if self.weights is None else self.weights[chunk]
            loglik += _sums_of_logs(hit) if w is None else np.dot(np.log(hit), w)
            if misses:
                heavy = miss if w is None else np.multiply(miss, w, out=WORKSPACE.array("weighted misses", *miss.shape))
                missed += np.dot(heavy, happened), heavy.sum(axis=1)
                squares += np.einsum("kn,kn->k", heavy, miss)
            if kept is not None or running:
                curvature = np.multiply(miss, hit, out=hit)
                if reach.max() > FARTHEST - 10:
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
            self._add(sums, by_cell, score, values, here, chunk)
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
