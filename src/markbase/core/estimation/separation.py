"""Outcomes that the terms foretell too well: found, and explained in words.

If some combination of the columns is never on the wrong side of any row, the likelihood has no
maximum: it rises for ever as the coefficients go that way (Albert & Anderson 1984).

References
----------
Albert & Anderson (1984), Biometrika 71(1), 1-10, doi:10.1093/biomet/71.1.1.
Konis (2007), Linear programming algorithms for detecting separated data in binary logistic regression models, DPhil
thesis, University of Oxford.
"""

from __future__ import annotations

import warnings
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.chunks import row_chunks
from markbase.core.design.coefficient_map import components_of
from markbase.core.design.moments import Moments
from markbase.core.design.terms import CodedColumns, Term, cell_label
from markbase.core.errors import SeparationError, count_noun, named
from markbase.core.estimation.event_rows import EventRows
from markbase.core.estimation.likelihood_points import Theta
from markbase.core.formatting import plain
from markbase.core.rows.parts import in_parts
from markbase.core.rows.row_functions import learn, lowest, made_of
from markbase.core.study.column import Column

Array = NDArray[np.float64]
_TOUCHED = 1e-3
_ON_THE_LINE = 1e-7
"""A margin, of a row of length 1 along a direction within ±1, that is taken for 0."""
_AT_ONCE = 2000
_ROUNDS = 30
_WAYS_OUT = (
    "merge such a level with one like it, leave the rows or the term out, or ask for penalised likelihood "
    "(Firth), which has finite estimates, and tests of its own in place of robust or clustered errors"
)


def check_levels(moments: Moments, terms: Sequence[Term], outcome: Column) -> None:
    """Refuse levels in which every row, or none, is the event, with how many rows they have; the outcome's event is the level 1."""
    told = []
    whole = moments.cross[-1] * moments.scales[-1] + moments.centres[-1] * moments.cross[0]
    for k, component in enumerate(components_of(terms), 1):
        if component.numerics:
            continue
        name = " × ".join(g.name for g in component.groups)
        at = slice(int(moments.starts[k]), int(moments.starts[k]) + component.size)
        rows, events = moments.cross[0, at], whole[at]
        for level in np.flatnonzero(rows > 0):
            share = events[level] / rows[level]
            if share < 1e-9 or share > 1 - 1e-9:
                here = count_noun(round(rows[level]), "row")
                which = (
                    ("none of them has" if share < 0.5 else "every one of them has") if here != "1 row" else "it has"
                )
                happens = outcome.levels[0 if here == "1 row" and share < 0.5 else 1].label
                told.append(
                    f"`{name}` is {cell_label(component.groups, int(level))} in {here} used, and {which} `{outcome.name}` = `{happens}`"
                )
    if told:
        more = f" (and {len(told) - 4} more)" if len(told) > 4 else ""
        raise SeparationError(
            f"{'; '.join(told[:4])}{more}. The outcome is foretold there without exception (separation), so no finite odds ratio fits "
            f"best: {_WAYS_OUT}."
        )


@dataclass(frozen=True, eq=False)
class Separation:
    """A direction along which no row is on the wrong side, counted on the rows."""

    direction: Array
    """Shape (1 + p,): the start first, then the inner columns."""
    decided: int
    """Rows on the right side of it."""
    of: int
    """All rows; as many as `decided` if the separation is complete."""


def find_separation(rows: EventRows, columns: NDArray[np.intp], theta: Theta) -> Separation | None:
    """Find out whether some combination of the columns is never on the wrong side of any row.

    None if some rows contradict every direction: then the likelihood has a maximum. `theta` is where the steps towards it
    have led: rows near the boundary are looked at first. Linear programmes over some of the rows (Konis 2007): the largest
    t with (2y − 1) x d ≥ t in every row tells complete separation, the largest sum of these margins partial separation.
    Rows that contradict what comes out are added until none does; if the programme of some rows has no solution, that of
    all has none. Each row counts by its own size, so that a far row does not excuse a near one.
    """
    eta = rows.predictor_of(theta) * (2 * rows.event - 1)  # NaN in rows not used
    scales = _column_scales(rows, columns)
    chosen = np.sort(lowest(eta, _AT_ONCE))
    for _ in range(_ROUNDS):
        direction = _programme(_signed_rows(rows.part(chosen), columns, scales))
        if direction is None:
            return None
        margins = _margins(rows, columns, scales, direction)
        wrong, right = margins < -_ON_THE_LINE, margins > _ON_THE_LINE
        of = np.isfinite(margins)
        learn(masks=[wrong, right, of])
        if not wrong.any():
            decided = int(np.count_nonzero(right))
            return Separation(direction / scales, decided, int(np.count_nonzero(of))) if decided else None
        worst = lowest(np.where(wrong, margins, np.nan), _AT_ONCE)
        chosen = np.unique(np.concatenate([chosen, worst]))
    return None


def _margins(rows: EventRows, columns: NDArray[np.intp], scales: Array, direction: Array) -> Array:
    """Return how far each row is on the right side of a direction, shape (rows,); NaN in rows not used."""
    bare = EventRows((), np.zeros(0), None, None, rows.moments)

    def looked(blocks: Sequence[CodedColumns], event: Array, used: NDArray[np.bool_] | None) -> tuple[Array]:
        part = bare.of_part(blocks, event, None, None)
        found = np.full(len(event), np.nan)
        for chunk in row_chunks(len(event), used, _AT_ONCE):
            found[chunk] = _signed_rows(part.part(chunk), columns, scales) @ direction
        return (found,)

    margins: Array = made_of(1, looked, list(rows.blocks), rows.event, rows.used)[0]
    return margins


def _signed_rows(rows: EventRows, columns: NDArray[np.intp], scales: Array) -> Array:
    """Return rows in memory as columns times ±1 by their outcome, each row of length 1, shape (rows, 1 + p)."""
    X = rows.dense(columns, np.arange(len(rows.event))) / scales * (2 * rows.event - 1)[:, None]
    signed: Array = X / np.sqrt(np.einsum("ij,ij->i", X, X))[:, None]
    return signed


def _column_scales(rows: EventRows, columns: NDArray[np.intp]) -> Array:
    """Return a typical size of each column, the start's 1 first: a root mean square that far rows do not decide."""
    if not in_parts(rows.event):
        inside = np.arange(len(rows.event)) if rows.used is None else np.flatnonzero(rows.used)
        places = inside[np.linspace(0, len(inside) - 1, min(len(inside), _AT_ONCE)).astype(np.intp)]
        X = np.abs(rows.dense(columns, places))
    else:
        some = rows.kept()
        X = np.abs(some.dense(columns, np.arange(len(some.event))))
    present = np.where(X > 0, X, np.nan)
    with np.errstate(all="ignore"), warnings.catch_warnings():
        warnings.simplefilter("ignore", RuntimeWarning)
        middle = np.nanmedian(present, axis=0)
    scales: Array = np.where(np.isfinite(middle) & (middle > 0), middle, 1.0)
    return scales


def _programme(X: Array) -> Array | None:
    """Return a direction d, within ±1, with X d ≥ 0 in every row and above 0 in some; None if there is none."""
    from scipy.optimize import linprog  # slow to load, and most fits never need it

    m, p = X.shape
    complete = linprog(
        np.append(np.zeros(p), -1.0),
        A_ub=np.hstack([-X, np.ones((m, 1))]),
        b_ub=np.zeros(m),
        bounds=[(-1, 1)] * p + [(None, 1)],
        method="highs",
    )
    if complete.status == 0 and complete.x is not None and complete.x[p] > _ON_THE_LINE:
        return np.asarray(complete.x[:p])
    partial = linprog(-X.sum(axis=0), A_ub=-X, b_ub=np.zeros(m), bounds=[(-1, 1)] * p, method="highs")
    if partial.status != 0 or partial.x is None or not (X @ partial.x > _ON_THE_LINE).any():
        return None
    return np.asarray(partial.x)


def separation_error(
    rows: EventRows, columns: NDArray[np.intp], separation: Separation, terms: Sequence[Term], outcome: Column
) -> SeparationError:
    """Say in words how the terms foretell the outcome: the terms concerned, how many rows they decide, and what would do."""
    wide = np.zeros(rows.moments.cross.shape[0])
    wide[columns] = separation.direction[1:]
    reach = []
    for places in _places_of(terms):
        furthest = 0.0
        for k in places:
            own = wide[rows.moments.starts[k + 1] : rows.moments.starts[k + 1] + rows.blocks[k].levels]
            scale = 1.0
            values = rows.blocks[k].multiplier
            if values is not None:
                inside = values if rows.used is None else values[rows.used]
                scale = float(inside.max() - inside.min())
            furthest = max(furthest, scale * float(np.ptp(np.append(own, 0.0))))
        reach.append(furthest)
    concerned = [t for t, r in zip(terms, reach, strict=True) if r > _TOUCHED * max(reach)]
    decided, of = separation.decided, separation.of
    event, names = outcome.levels[1].label, named(t.name for t in concerned)
    how = _threshold(concerned[0], rows, outcome) if len(concerned) == 1 and concerned[0].kind == "numeric" else ""
    if not how:
        how = (
            f"{names}{' together' if len(concerned) > 1 else ''} foretell{'s' if len(concerned) == 1 else ''} `{outcome.name}` = `{event}` "
            f"without exception in {decided:,} of {of:,} rows"
        )
    kind = "complete separation" if decided == of else "partial separation"
    return SeparationError(
        f"{how} ({kind}), so no finite odds ratio fits best: {_WAYS_OUT}. If a term was made from the outcome, leave it out."
    )


def _places_of(terms: Sequence[Term]) -> list[range]:
    """Return which components each term has."""
    ends = np.cumsum([len(t.components) for t in terms]).tolist()
    return [range(end - len(t.components), end) for t, end in zip(terms, ends, strict=True)]


def _threshold(term: Term, rows: EventRows, outcome: Column) -> str:
    inside = slice(None) if rows.used is None else rows.used
    values, event = term.column.values[inside], rows.event[inside] > 0
    rising = values[event].mean() > values[~event].mean()
    with_event, without = values[event], values[~event]
    label, other = outcome.levels[1].label, outcome.levels[0].label
    if rising:
        low, high = float(without.max()), float(with_event.min())
    else:
        low, high = float(with_event.max()), float(without.min())
    upper, lower = (label, other) if rising else (other, label)
    if low > high:
        return ""  # rows contradict it: the column alone does not foretell the outcome
    if low == high:
        return f"Every row with `{term.name}` above {plain(low, 6)} has `{outcome.name}` = `{upper}`, every row below it `{lower}`"
    return f"Every row with `{term.name}` of {plain(high, 6)} or more has `{outcome.name}` = `{upper}`, every row of {plain(low, 6)} or less `{lower}`"
