"""Maximising a logistic likelihood, with or without constraints and Firth's penalty.

Newton steps on moments weighted by the curvature. Where rows are many the curvature is kept for
several steps and taken again only when they shrink too slowly: what decides where the steps end is the
slope, which is exact at every step. With Firth's penalty it is kept once the steps are short, and what they show of the
penalty's own curvature is learnt: without it steps near the end may shrink slowly, or go past it as far as they were before it.

References
----------
Firth (1993), Biometrika 80(1), 27-38, doi:10.1093/biomet/80.1.27.
Heinze & Schemper (2002), Statistics in Medicine 21(16), 2409-2419, doi:10.1002/sim.1047.
"""

from __future__ import annotations

import math
from collections.abc import Generator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.moments import Moments
from markbase.core.design.terms import CodedColumns
from markbase.core.estimation.least_squares import solve
from markbase.core.estimation.least_squares_solution import Dependent, Solution
from markbase.core.estimation.likelihood import Likelihood
from markbase.core.estimation.likelihood_points import Asked, Passed, Point, Theta
from markbase.core.estimation.secants import Secants
from markbase.core.estimation.third_order import Bend
from markbase.core.estimation.whitening import Whitened
from markbase.core.rows.parts import in_parts
from markbase.core.rows.sums import total_of

Array = NDArray[np.float64]

MOST_STEPS = 200
_DONE = 1e-22
"""A squared step, in standard errors, at which there is nothing left to gain."""
_GOOD = 1e-10
_ENOUGH = 1e-16
"""The same where rows are many: what is left is far less than a rounding error in any row."""
_ENOUGH_A_ROW = 1e-20
"""And where they are more still: the curvature is another one there by at most about the root of it."""
_MANY_ROWS = 50_000
_SLOW = 1e-4
_WORTH = 1e-9
_ENOUGH_HELD = 1e-9
"""The same where something is held: only the height of the likelihood is asked for, to which half of it is added."""
_DIGITS_HELD = 1e-9
"""The same as a share of the fall: how far what is left may be from the half that is added."""
_ALL_DIGITS = 1e-15
"""The same where rows are few, and passes cost little."""
_SLOW_HELD = 1e-2
_HALVINGS = 25
_SHORT = 0.1
"""A squared step, in standard errors, from which on the curvature is kept where the likelihood is penalised."""
PATIENT = 5
"""So many steps in a row that shrink no further are rounding where the curvature is learnt: single ones may be detours."""
_FIRST_LOOK = 14
"""Steps after which a maximum that keeps moving is looked at for separation."""


@dataclass(frozen=True, eq=False)
class Constraint:
    """Combinations of the coefficients held at values."""

    rows: Array
    """Shape (k, 1 + p): the combinations, the start first."""
    values: Array
    """Shape (k,): what they are held at."""


@dataclass(frozen=True, eq=False)
class Information:
    """The curvature at a point, factored."""

    solution: Solution
    """Least squares weighted by the curvature."""
    moments: Moments
    """The weighted moments."""
    blocks: list[CodedColumns]
    """What they are of."""
    root: Array
    """Shape (1 + p, 1 + p): R with R Rᵀ the inverse of the curvature."""

    @property
    def log_determinant(self) -> float:
        """The logarithm of the determinant of the curvature."""
        return math.log(self.solution.weight) - 2 * float(np.linalg.slogdet(self.solution.root)[1])


@dataclass(frozen=True, eq=False)
class Maximum:
    """Where the steps ended."""

    point: Point
    """The likelihood there."""
    passed: Passed
    """What the rows contribute there."""
    objective: float
    """The log-likelihood, with the penalty if there is one."""
    status: str
    """``converged``, ``stalled`` (no step gains, though the slope is not 0) or ``moving`` (steps ran out, or an end is nowhere near)."""
    steps: int
    """Steps taken."""
    last_step: Array
    """Shape (1 + p,): the last step, which shows the direction of one that never ends."""
    information: Information | None = None
    """The curvature last taken."""
    gain: float = 0.0
    """The squared length of a step that was not taken any more, in standard errors: half of it is left to gain."""


def information_at(rows: Likelihood, passed: Passed, columns: NDArray[np.intp], rough: bool = True) -> Information:
    """Take and factor the curvature at a point that was passed.

    If `rough`, without twice the working precision where the working precision gives a factor at all.
    """
    moments, blocks = rows.curved(passed)
    solution = solve(moments, blocks, rows.used, len(rows.event), columns, passed.curvature, rough=rough)
    centres = np.repeat(rows.moments.centres, rows.moments.sizes)[columns]
    root = np.zeros((len(columns) + 1, len(columns) + 1))
    root[0, 0] = 1 / math.sqrt(solution.weight)
    root[0, 1:] = -(solution.means - centres) @ solution.root
    root[1:, 1:] = solution.root
    return Information(solution, moments, blocks, root)


def maximise(
    rows: Likelihood,
    columns: NDArray[np.intp],
    theta: Theta,
    *,
    firth: bool = False,
    information: Information | None = None,
    trusted: float = math.inf,
    look: bool = True,
    done: float = 0.0,
    begin: tuple[Point, Passed] | None = None,
    bend: Bend | None = None,
) -> Maximum:
    """Find the coefficients at which the likelihood is largest, and how they were reached, beginning at `theta`.

    If the curvature is given it is taken from there, unless the first step by it is longer, squared and in standard errors,
    than is `trusted`.

    With `firth` half the logarithm of the determinant of the curvature is added (of all columns, held or not). If `look`,
    it stops after some steps when the end is nowhere near, for a look at where they lead. `done` is a squared step, in
    standard errors, that need not be taken; by default one that changes nothing. If a pass at `theta` was taken it is `begin`. With
    `bend` steps from where the curvature was taken are of third order.
    """
    climb = _climb(
        rows,
        columns,
        theta,
        firth=firth,
        information=information,
        trusted=trusted,
        look=look,
        done=done,
        begin=begin,
        bend=bend,
    )
    return _together(rows, [climb])[0]


def maximise_held(
    rows: Likelihood,
    columns: NDArray[np.intp],
    begin: tuple[Point, Passed],
    constraints: Sequence[Constraint],
    *,
    firth: bool = False,
    information: Information | None = None,
    done: float = 0.0,
) -> list[Maximum]:
    """Find the coefficients at which the likelihood is largest where some combinations of them are held, one constraint by one.

    All are climbed at the same time, from a pass at `begin`: a pass over the rows serves every one of them. `done` is as for
    `maximise`.
    """
    done = max(done, _ENOUGH_HELD if len(rows.event) > _MANY_ROWS else 0.0)
    climbs = [
        _climb(
            rows,
            columns,
            begin[0].theta,
            constraint=held,
            firth=firth,
            information=information,
            look=False,
            done=done,
            begin=begin,
        )
        for held in constraints
    ]
    return _together(rows, climbs)


Climb = Generator[Asked, tuple[Point, Passed], Maximum]
"""Asks for passes over the rows at coefficients, and returns where the steps ended."""


def _together(rows: Likelihood, climbs: Sequence[Climb]) -> list[Maximum]:
    """Take climbs to their ends, with passes that serve all of them."""
    ends: dict[int, Maximum] = {}
    answers: dict[int, tuple[Point, Passed] | None] = dict.fromkeys(range(len(climbs)))
    while answers:
        asked: dict[int, Asked] = {}
        for k, answer in answers.items():
            try:
                asked[k] = climbs[k].send(answer)  # type: ignore[arg-type]  # None starts it
            except StopIteration as end:
                ends[k] = end.value
        answers = dict(zip(asked, rows.passes_at(list(asked.values())), strict=True)) if asked else {}
    return [ends[k] for k in range(len(climbs))]


def _climb(
    rows: Likelihood,
    columns: NDArray[np.intp],
    theta: Theta,
    *,
    constraint: Constraint | None = None,
    firth: bool = False,
    information: Information | None = None,
    trusted: float = math.inf,
    look: bool = True,
    done: float = 0.0,
    begin: tuple[Point, Passed] | None = None,
    bend: Bend | None = None,
) -> Climb:
    """Climb to a maximum, as `maximise` and `maximise_held` say."""
    many, fresh = len(rows.event) > _MANY_ROWS or (constraint is not None and not firth), False
    point, passed = (
        (yield Asked(theta, curved=information is None or firth, missed=constraint is None)) if begin is None else begin
    )
    done = max(done, max(_ENOUGH, _ENOUGH_A_ROW * len(rows.event)) if many else _DONE)
    costly = in_parts(rows.event)  # another pass costs more there than the curvature in each of them
    slow = _SLOW if constraint is None else _SLOW_HELD
    if information is None or firth or (begin is None and passed.moments is not None):
        information, fresh = information_at(rows, passed, columns, rough=not firth), True
    top = objective = _objective(point, information, firth)
    before, step, seen = math.inf, np.zeros(len(columns) + 1), Secants.none(len(columns) + 1)
    gradient = gradient_of(rows, point, passed, information, columns, firth)
    kept, lowest, since = information, math.inf, 0
    for taken in range(MOST_STEPS):
        step, whitened, gain = _step(kept.root, seen, gradient, constraint, point.theta, columns)
        if gain > (_SHORT if firth else max(slow * before, _WORTH) if taken else trusted) and not fresh:
            if not firth:
                information = information_at(rows, passed, columns)
            kept, fresh, seen = information, True, Secants.none(len(step))
            step, whitened, gain = _step(kept.root, seen, gradient, constraint, point.theta, columns)
        lowest, since = (gain, 0) if gain < 0.5 * lowest else (lowest, since + 1)
        there = constraint is None or taken > 0  # what is held is held only after the first step
        if there and (gain <= done or (gain < _GOOD and since >= (PATIENT if firth else 1))):
            return Maximum(point, passed, objective, "converged", taken, step, information, gain)
        if look and taken >= _FIRST_LOOK and not firth and point.farthest > _FIRST_LOOK:
            return Maximum(point, passed, objective, "moving", taken, step, information)
        shrinks = 1.0 if math.isinf(before) else min(1.0, gain / before)
        # the curvature is another one there, by about the root of what a step shrinks by
        digits = _DIGITS_HELD if len(rows.event) > _MANY_ROWS else _ALL_DIGITS
        if constraint is not None and many and gain * math.sqrt(shrinks) <= digits * (top - objective):
            return Maximum(point, passed, objective, "converged", taken, step, information, gain)
        last = gain * shrinks <= done  # if this step shrinks as the one before did
        far = gain > slow * len(rows.event)  # the curvature will be another one there
        curved = firth or not many or (constraint is None and (last or far or costly))
        before, size = gain, 1.0
        if bend is not None and fresh and gain > _GOOD:
            whitened = bend.added(point.theta, columns, kept.root, whitened)
            step = kept.root @ whitened
        for _ in range(_HALVINGS):
            new, new_passed = yield Asked(point.theta.moved(columns, step, size), curved, missed=constraint is None)
            ahead = _curved_ahead(rows, new_passed, columns) if firth else information
            if ahead is None:
                size /= 2
                continue
            reached = _objective(new, ahead, firth)
            if reached >= objective - 1e-12 * (1 + abs(objective)) or (constraint is not None and taken == 0):
                break
            size /= 2
        else:
            return Maximum(
                point, passed, objective, "converged" if gain < _GOOD else "stalled", taken, step, information
            )
        point, passed, objective, fresh = new, new_passed, reached, False
        information = ahead
        if (not many or passed.moments is not None) and not firth:
            information, fresh = information_at(rows, passed, columns), True
        kept = information if fresh or not firth else kept
        old, gradient = gradient, gradient_of(rows, point, passed, information, columns, firth)
        change = kept.root.T @ (old - gradient)
        seen = Secants.none(len(step)) if fresh else seen.after(size * whitened, change)
    return Maximum(point, passed, objective, "moving", MOST_STEPS, step, information)


def _curved_ahead(rows: Likelihood, passed: Passed, columns: NDArray[np.intp]) -> Information | None:
    """Return the curvature where a step leads; None where hardly any is left, and the penalty falls without bound."""
    try:
        return information_at(rows, passed, columns, rough=False)
    except Dependent:
        return None


def _objective(point: Point, information: Information, firth: bool) -> float:
    return point.loglik + (0.5 * information.log_determinant if firth else 0.0)


def gradient_of(
    rows: Likelihood, point: Point, passed: Passed, information: Information, columns: NDArray[np.intp], firth: bool
) -> Array:
    """Return the slope of what is maximised at a point that was passed, shape (1 + p,), the start first."""
    gradient = point.gradient
    if firth:
        gradient = gradient + firth_slope(rows, passed, information)
    return np.concatenate([gradient[:1], gradient[columns]])


def firth_slope(rows: Likelihood, passed: Passed, information: Information) -> Array:
    """Return the slope of Firth's penalty: the sums by column of h(½ − p) of the rows, shape (columns,), the start's first.

    h is the leverage of a row, p(1 − p) xᵀH⁻¹x and as often as the row counts.
    """
    whitened = Whitened(
        information.moments, information.blocks, information.solution, rows.used, passed.curvature, None
    )
    moments = rows.moments

    def pulled(own: Whitened, score: Array, event: Array, weights: Array | None) -> Array:
        pull = np.zeros(len(event))
        for chunk, Q, _, curvature in own.chunks():
            leverage = np.einsum("ij,ij->i", Q, Q) * curvature
            miss = score[chunk] if weights is None else score[chunk] / weights[chunk]
            pull[chunk] = leverage * (0.5 - (event[chunk] - miss))
        return Likelihood(own.blocks[:-1], event, own.used, weights, moments).sums_of(pull)

    return total_of(whitened.over(pulled, passed.score, rows.event, rows.weights))


def _step(
    root: Array,
    seen: Secants,
    gradient: Array,
    constraint: Constraint | None,
    theta: Theta,
    columns: NDArray[np.intp],
) -> tuple[Array, Array, float]:
    """Return the Newton step, the same in standard errors, and its squared length by the curvature."""
    slope = root.T @ gradient
    if constraint is None:
        step = seen.solved(slope)
        return root @ step, step, float(slope @ step)
    now = np.concatenate([[theta.start], theta.slopes[columns]])
    off = constraint.values - constraint.rows @ now
    held = constraint.rows @ root
    Q, R = np.linalg.qr(held.T)
    back = Q @ np.linalg.solve(R.T, off)
    slope = slope - seen.times(back) + back
    slope -= Q @ (Q.T @ slope)
    inside = seen.solved(slope, Q)
    step = inside + back
    return root @ step, step, float(slope @ inside + back @ back)
