"""The logistic likelihood over the rows: its value, its slope, and what its curvature is made of.

Levels are looked up in a small table and never laid out; a pass takes the rows a chunk at a time.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from markbase.core.model.gathering import gather, row_chunks
from markbase.core.model.moments import Moments
from markbase.core.model.terms import Block

Array = NDArray[np.float64]
_PASS_ROWS = 1 << 14


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


@dataclass(eq=False)
class Rows:
    """The rows of a logistic model, with room for what a pass finds."""

    blocks: Sequence[Block]
    """The terms."""
    event: Array
    """Shape (rows,): 1 for the event, 0 otherwise."""
    used: NDArray[np.bool_] | None
    """Shape (rows,): the rows used; None for all."""
    weights: Array | None
    """Shape (rows,): with how much each row counts."""
    moments: Moments
    """Unweighted moments of the terms, for sizes and centres."""
    curvature: Array = field(init=False)
    """Shape (rows,): weight times p(1 − p) at the last point passed."""
    working: Array = field(init=False)
    """Shape (rows,): (event − p) / (p(1 − p)) at the last point passed."""

    def __post_init__(self) -> None:
        self.curvature, self.working = np.zeros(len(self.event)), np.zeros(len(self.event))

    def pass_at(self, theta: Theta) -> Point:
        """Take the likelihood and its slope at some coefficients, and keep what the curvature needs."""
        loglik, farthest = 0.0, 0.0
        sums = np.zeros(self.moments.cross.shape[0])
        for chunk in row_chunks(len(self.event), self.used, _PASS_ROWS):
            eta, looked_up = self._predictor(theta, chunk)
            sign = 2 * self.event[chunk] - 1
            margin = sign * eta
            np.clip(margin, -700, 700, out=margin)
            farthest = max(farthest, float(np.abs(margin).max(initial=0.0)))
            tail = np.exp(-np.abs(margin))
            likely = 1 / (1 + tail)
            unlikely = tail * likely
            miss = sign * np.where(margin >= 0, unlikely, likely)
            curvature = np.maximum(unlikely * likely, 1e-300)
            terms = np.log1p(tail) + np.maximum(-margin, 0)
            self.working[chunk] = miss / curvature
            if self.weights is not None:
                w = self.weights[chunk]
                terms, miss, curvature = terms * w, miss * w, curvature * w
            self.curvature[chunk] = curvature
            loglik -= float(terms.sum())
            self._add(sums, miss, looked_up)
        return Point(theta, loglik, sums, min(farthest, 700.0))

    def probabilities(self, theta: Theta) -> Array:
        """Return the probability of the event for each row of the study; NaN for a row not used."""
        found = np.full(len(self.event), np.nan)
        for chunk in row_chunks(len(self.event), self.used, _PASS_ROWS):
            found[chunk] = probability(self._predictor(theta, chunk)[0])
        return found

    def predictor_of(self, theta: Theta) -> Array:
        """Return the linear predictor of each row of the study; NaN for a row not used."""
        found = np.full(len(self.event), np.nan)
        for chunk in row_chunks(len(self.event), self.used, _PASS_ROWS):
            found[chunk] = self._predictor(theta, chunk)[0]
        return found

    def sums_of(self, values: Array) -> Array:
        """Return the sums over the rows of each column times some values, shape (columns,), the start's first."""
        sums = np.zeros(self.moments.cross.shape[0])
        nothing = Theta(0.0, np.zeros(self.moments.cross.shape[0]))
        for chunk in row_chunks(len(self.event), self.used, _PASS_ROWS):
            self._add(sums, values[chunk], self._predictor(nothing, chunk)[1])
        return sums

    def curved(self) -> tuple[Moments, list[Block]]:
        """Return the moments weighted by the curvature at the last point passed, the working residual as outcome."""
        blocks = [*self.blocks, Block(1, multiplier=self.working)]
        return gather(blocks, len(self.event), self.used, self.curvature), blocks

    def _predictor(
        self, theta: Theta, chunk: slice | NDArray[np.intp]
    ) -> tuple[Array, list[tuple[NDArray[np.integer] | None, Array | None]]]:
        """Return the linear predictor, and the codes and deviations of each term."""
        looked_up: list[tuple[NDArray[np.integer] | None, Array | None]] = []
        eta: Array = np.full(len(self.event[chunk]), theta.start)
        for k, block in enumerate(self.blocks, 1):
            start = self.moments.starts[k]
            codes = None if block.codes is None else block.codes[chunk]
            deviation = None if block.multiplier is None else block.multiplier[chunk] - self.moments.centres[k]
            if codes is None:
                assert deviation is not None
                eta += deviation * theta.slopes[start]
            else:
                effect = theta.slopes[start : start + block.levels][codes]
                eta += effect if deviation is None else effect * deviation
            looked_up.append((codes, deviation))
        return eta, looked_up

    def _add(
        self, sums: Array, values: Array, looked_up: Sequence[tuple[NDArray[np.integer] | None, Array | None]]
    ) -> None:
        sums[0] += values.sum()
        for k, (codes, deviation) in enumerate(looked_up, 1):
            start, size = self.moments.starts[k], self.moments.sizes[k]
            if codes is None:
                assert deviation is not None
                sums[start] += values @ deviation
            else:
                weights = values if deviation is None else values * deviation
                sums[start : start + size] += np.bincount(codes, weights=weights, minlength=size)


def probability(eta: Array) -> Array:
    """Return 1 / (1 + exp(−eta)), without overflow."""
    tail = np.exp(-np.abs(eta))
    likely: Array = np.where(eta >= 0, 1.0, tail) / (1 + tail)
    return likely
