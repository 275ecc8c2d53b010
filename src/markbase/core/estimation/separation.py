"""Outcomes that the terms foretell too well: found, and explained in words.

If some combination of the columns is never on the wrong side of any row, the likelihood has no
maximum: it rises for ever as the coefficients go that way (Albert & Anderson 1984).

References
----------
Albert & Anderson (1984), Biometrika 71(1), 1-10, doi:10.1093/biomet/71.1.1.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.moments import Moments
from markbase.core.design.terms import Term
from markbase.core.errors import SeparationError, count_noun, listed, quoted
from markbase.core.estimation.likelihood import Rows, Theta
from markbase.core.formatting import short
from markbase.core.study.column import Column

Array = NDArray[np.float64]
_TOUCHED = 1e-3
_WAYS_OUT = (
    "merge such a level with one like it, leave the rows or the term out, or ask for penalised likelihood "
    '(penalty="firth", on the command line --penalty firth), which has finite estimates'
)


def check_levels(moments: Moments, parts: Sequence[Term], outcome: Column) -> None:
    """Refuse levels in which every row, or none, is the event.

    Parameters
    ----------
    moments : Moments
        Moments of the terms with the event (1 or 0) as the outcome.
    parts : sequence of Term
        The terms.
    outcome : Column
        The outcome, its event the level 1.

    Raises
    ------
    SeparationError
        That names the levels and how many rows they have.
    """
    told = []
    whole = moments.cross[-1] * moments.scales[-1] + moments.centres[-1] * moments.cross[0]
    for k, term in enumerate(parts, 1):
        if term.kind not in ("categorical", "cross"):
            continue
        at = slice(int(moments.starts[k]), int(moments.starts[k]) + term.size)
        rows, events = moments.cross[0, at], whole[at]
        for level in np.flatnonzero(rows > 0):
            share = events[level] / rows[level]
            if share < 1e-9 or share > 1 - 1e-9:
                which = "none" if share < 0.5 else "every one"
                told.append(
                    f"`{term.name}` is {_label(term, int(level))} in {count_noun(round(rows[level]), 'row')} used, and {which} of them has "
                    f"`{outcome.name}` = `{outcome.levels[1].label}`"
                )
    if told:
        more = f" (and {len(told) - 4} more)" if len(told) > 4 else ""
        raise SeparationError(
            f"{'; '.join(told[:4])}{more}. The outcome is foretold there without exception (separation), so no finite odds ratio fits "
            f"best: {_WAYS_OUT}."
        )


def _label(term: Term, level: int) -> str:
    if term.kind == "categorical":
        return f"`{term.labels[level]}`"
    first, second = term.parts
    return f"`{first.labels[level // second.size]}` × `{second.labels[level % second.size]}`"


def separates(rows: Rows, columns: NDArray[np.intp], direction: Array) -> tuple[bool, int, int]:
    """Say whether a direction never has a row on the wrong side.

    Parameters
    ----------
    rows : Rows
        The rows.
    columns : ndarray of int, shape (p,)
        The inner columns.
    direction : ndarray, shape (1 + p,)
        The start first.

    Returns
    -------
    separated : bool
        Whether it does so.
    decided : int
        Rows on the right side of it.
    of : int
        All rows.
    """
    eta = rows.predictor_of(Theta(0.0, np.zeros(rows.moments.cross.shape[0])).moved(columns, direction))
    inside = np.isfinite(eta)
    margin = (2 * rows.event[inside] - 1) * eta[inside]
    far = float(np.abs(margin).max(initial=0.0))
    if far == 0:
        return False, 0, len(margin)
    return bool(margin.min() >= -_TOUCHED * far), int((margin > _TOUCHED * far).sum()), len(margin)


def separation_error(
    rows: Rows,
    columns: NDArray[np.intp],
    direction: Array,
    parts: Sequence[Term],
    outcome: Column,
    decided: int,
    of: int,
) -> SeparationError:
    """Say in words how the terms foretell the outcome.

    Parameters
    ----------
    rows, columns, direction
        As for `separates`.
    parts : sequence of Term
        The terms.
    outcome : Column
        The outcome, its event the level 1.
    decided, of : int
        Rows on the right side of the direction, and all rows.

    Returns
    -------
    SeparationError
        With the terms concerned, how many rows they decide, and what would do.
    """
    wide = np.zeros(rows.moments.cross.shape[0])
    wide[columns] = direction[1:]
    reach = []
    for k, term in enumerate(parts, 1):
        own = wide[rows.moments.starts[k] : rows.moments.starts[k] + term.size]
        scale = 1.0
        if rows.blocks[k - 1].multiplier is not None:
            values = rows.blocks[k - 1].multiplier
            assert values is not None
            inside = values if rows.used is None else values[rows.used]
            scale = float(np.ptp(inside))
        reach.append(scale * float(np.ptp(np.append(own, 0.0))))
    concerned = [t for t, r in zip(parts, reach, strict=True) if r > _TOUCHED * max(reach)]
    event, names = outcome.levels[1].label, listed(quoted(t.name for t in concerned))
    if len(concerned) == 1 and concerned[0].kind == "numeric":
        how = _threshold(concerned[0], rows, outcome)
    else:
        how = (
            f"{names}{' together' if len(concerned) > 1 else ''} foretell{'s' if len(concerned) == 1 else ''} `{outcome.name}` = `{event}` "
            f"without exception in {decided:,} of {of:,} rows"
        )
    kind = "complete separation" if decided == of else "partial separation"
    return SeparationError(
        f"{how} ({kind}), so no finite odds ratio fits best: {_WAYS_OUT}. If a term was made from the outcome, leave it out."
    )


def _threshold(term: Term, rows: Rows, outcome: Column) -> str:
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
    if low == high:
        return f"Every row with `{term.name}` above {short(low, 6)} has `{outcome.name}` = `{upper}`, every row below it `{lower}`"
    return f"Every row with `{term.name}` of {short(high, 6)} or more has `{outcome.name}` = `{upper}`, every row of {short(low, 6)} or less `{lower}`"
