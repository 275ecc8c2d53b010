"""From inner coefficients to those the analyst asked for.

Every coefficient of a model of numeric columns, groups, slopes by group and crossings is a combination of what
the model gives for profiles: a difference of two profiles for a numeric column or a level, a difference of
differences for a slope by group or a crossing. The columns of the model at a profile are products of
what each variable contributes, so a coefficient is found by putting its own contrast in the place of
the variables it is about, and their reference in the place of all others.
"""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.moments import Moments
from markbase.core.design.terms import Term
from markbase.core.study.coding import Compared, Contrasts, contrasts

Array = NDArray[np.float64]
_ONE = np.ones(1)


class Coefficient(NamedTuple):
    """One coefficient."""

    term: str
    """The term; ``(intercept)`` for the start."""
    compared: Compared
    """What is compared."""
    levels: tuple[int, ...] = ()
    """Which levels of the term's groups the row is about, for counting rows; empty for all."""


@dataclass(frozen=True, eq=False)
class CoefficientMap:
    """All coefficients, as combinations of the inner ones."""

    rows: tuple[Coefficient, ...]
    """What each is; the intercept first."""
    chooser: Array
    """Shape (rows, p): the combinations. Numeric columns count from their centres."""
    known: NDArray[np.bool_]
    """Shape (rows,): whether the rows used have every combination of levels that a coefficient rests on."""
    starts: NDArray[np.bool_]
    """Shape (rows,): whether the start of the equation is part of it, as it is of the intercept."""


def design_columns(parts: Sequence[Term], moments: Moments) -> NDArray[np.intp]:
    """Choose the inner columns of a model: one level of each group goes out, its most populous.

    Parameters
    ----------
    parts : sequence of Term
        The terms; block k + 1 is ``parts[k]``.
    moments : Moments
        Their moments.

    Returns
    -------
    ndarray of int, shape (p,)
        Columns of the moments. Of a crossing only cells with rows stay, and only those that neither group
        tells by itself.
    """
    names = {t.name for t in parts}
    starts = moments.starts.tolist()
    end = starts[len(parts)] + parts[-1].size
    stays = np.arange(end) > 0
    gone: dict[str, int] = {}
    for k, term in enumerate(parts, 1):
        if term.kind == "categorical":
            gone[term.name] = int(_counts(moments, k, term).argmax())
            stays[starts[k] + gone[term.name]] = False
    for k, term in enumerate(parts, 1):
        if term.kind == "slope":
            if term.parts[0].name in names:
                stays[starts[k] + gone.get(term.parts[1].name, term.base)] = False
        elif term.kind == "cross":
            first, second = term.parts
            cells = _counts(moments, k, term).reshape(first.size, second.size)
            inside = cells > 0
            told_alone = [t.name in names for t in (first, second)]
            if told_alone[0]:  # a column for each level of the first is in the model already
                inside[:, gone.get(second.name, int(np.argmax(cells.sum(0))))] = False
            if told_alone[1]:
                inside[gone.get(first.name, int(np.argmax(cells.sum(1))))] = False
            if not any(told_alone):
                inside.flat[int(np.argmax(cells))] = False
            stays[starts[k] : starts[k] + term.size] = inside.ravel()
    return np.flatnonzero(stays)


def _counts(moments: Moments, k: int, term: Term) -> Array:
    start = int(moments.starts[k])
    counts: Array = moments.cross[0, start : start + term.size]
    return counts


def map_coefficients(
    parts: Sequence[Term],
    moments: Moments,
    columns: NDArray[np.intp],
    level_form: bool = False,
    at: Mapping[str, float] | None = None,
) -> CoefficientMap:
    """Say what each coefficient is.

    Parameters
    ----------
    parts : sequence of Term
        The terms; block k + 1 is ``parts[k]``.
    moments : Moments
        Their moments.
    columns : ndarray of int, shape (p,)
        The inner columns.
    level_form : bool
        Tell groups that are not coded by indicators by the effects of their levels instead.
    at : mapping of str to float, optional
        Where numeric columns are held that a coefficient is not about; 0 for those not named.

    Returns
    -------
    Telling
        The intercept, then each term's coefficients in order.
    """
    single = {p.name: p for t in parts for p in (t.parts or (t,))}
    names = {t.name for t in parts}
    codings: dict[str, Contrasts] = {}
    for name, term in single.items():
        if term.is_categorical:
            scheme = term.column.scheme
            form = "effect" if level_form and scheme != "indicator" else scheme
            codings[name] = contrasts(form, term.labels, term.base, term.places.tolist())
    centre = {t.name: float(moments.centres[k]) for k, t in enumerate(parts, 1) if t.kind == "numeric"}
    for k, term in enumerate(parts, 1):
        if term.kind == "slope":
            centre.setdefault(term.parts[0].name, float(moments.centres[k]))
    places = at or {}
    reference = {
        n: (codings[n].intercept if n in codings else np.array([places.get(n, 0.0) - centre[n]])) for n in single
    }

    every = [(int(moments.starts[k]), term.variables) for k, term in enumerate(parts, 1)]
    holding = {name: [entry for entry in every if name in entry[1]] for name in single}
    rows = [_Row(Coefficient("(intercept)", Compared("", "", False)), {})]
    for term in parts:
        rows += _own_rows(term, codings, names)
    stacked = np.zeros((len(rows), moments.cross.shape[0]))
    for wide, (_, chosen) in zip(
        stacked, rows, strict=True
    ):  # some variables contrasted, the others at their reference
        for start, variables in holding[next(iter(chosen))] if chosen else every:
            if len(variables) == 1:
                if len(chosen) > 1:
                    continue
                values = chosen.get(variables[0], reference[variables[0]])
            elif all(name in variables for name in chosen):
                first, second = (chosen.get(name, reference[name]) for name in variables)
                values = np.outer(first, second).ravel()
            else:
                continue
            wide[start : start + len(values)] = values
    empty = moments.cross[0] == 0
    crossed = np.zeros(stacked.shape[1], dtype=bool)
    for k, term in enumerate(parts, 1):
        crossed[moments.starts[k] : moments.starts[k] + term.size] = term.kind == "cross"
    known = ~np.any(np.abs(stacked[:, empty & crossed]) > 0, axis=1)
    return CoefficientMap(tuple(row.told for row in rows), stacked[:, columns], known, np.arange(len(rows)) == 0)


class _Row(NamedTuple):
    """A coefficient, and the variables it contrasts."""

    told: Coefficient
    chosen: dict[str, Array]


def _own_rows(term: Term, codings: dict[str, Contrasts], names: set[str]) -> list[_Row]:
    if term.kind == "numeric":
        return [_Row(Coefficient(term.name, Compared("", "", False)), {term.name: _ONE})]
    if term.kind == "cross":
        return _crossed_rows(term, codings)
    group = term if term.kind == "categorical" else term.parts[1]
    steps = {} if group is term else {term.parts[0].name: _ONE}
    if steps and term.parts[0].name not in names:  # no common slope to differ from: each level has its own
        each = np.eye(group.size)
        return [
            _Row(Coefficient(term.name, Compared(label, "", False), (k,)), steps | {group.name: each[k]})
            for k, label in enumerate(group.labels)
        ]
    places = {label: (k,) for k, label in enumerate(group.labels)}
    coding = codings[group.name]
    return [
        _Row(Coefficient(term.name, compared, places.get(compared.level, ())), steps | {group.name: w})
        for compared, w in zip(coding.rows, coding.weights, strict=True)
    ]


def _crossed_rows(term: Term, codings: dict[str, Contrasts]) -> list[_Row]:
    first, second = term.parts
    rows = []
    pairs = itertools.product(
        zip(codings[first.name].rows, codings[first.name].weights, strict=True),
        zip(codings[second.name].rows, codings[second.name].weights, strict=True),
    )
    for (a, w), (b, v) in pairs:
        base = a.base or b.base
        against = "" if base else f"{a.against or '–'} × {b.against or '–'}"
        levels = tuple(t.labels.index(c.level) for t, c in ((first, a), (second, b)) if c.level in t.labels)
        compared = Compared(f"{a.level} × {b.level}", against, base)
        told = Coefficient(term.name, compared, levels if len(levels) == 2 else ())
        rows.append(_Row(told, {first.name: w, second.name: v}))
    return rows
