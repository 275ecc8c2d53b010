"""From inner coefficients to those the analyst asked for.

Every coefficient of a model of amounts, groups, slopes by group and crossings is a combination of what
the model gives for profiles: a difference of two profiles for an amount or a level, a difference of
differences for a slope by group or a crossing. The columns of the model at a profile are products of
what each variable contributes, so a coefficient is found by putting its own contrast in the place of
the variables it is about, and their reference in the place of all others.
"""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from markbase.core.model.moments import Moments
from markbase.core.model.terms import Term
from markbase.core.study.coding import Compared, Contrasts, contrasts

Array = NDArray[np.float64]


@dataclass(frozen=True)
class Told:
    """One coefficient."""

    term: str
    """The term; ``(intercept)`` for the start."""
    compared: Compared
    """What is compared."""
    levels: tuple[int, ...] = ()
    """Which levels of the term's groups the row is about, for counting rows; empty for all."""


@dataclass(frozen=True, eq=False)
class Telling:
    """All coefficients, as combinations of the inner ones."""

    rows: tuple[Told, ...]
    """What each is; the intercept first."""
    chooser: Array
    """Shape (rows, p): the combinations. Amounts count from their centres."""
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
    gone: dict[str, int] = {}
    kept = []
    for k, term in enumerate(parts, 1):
        if term.kind == "group":
            gone[term.name] = int(np.argmax(_counts(moments, k, term)))
    for k, term in enumerate(parts, 1):
        start = int(moments.starts[k])
        if term.kind == "amount":
            inside = np.array([0])
        elif term.kind == "group":
            inside = np.delete(np.arange(term.size), gone[term.name])
        elif term.kind == "slope":
            group = term.parts[1].name
            inside = np.arange(term.size)
            if term.parts[0].name in names:
                inside = np.delete(inside, gone.get(group, term.base))
        else:
            first, second = term.parts
            cells = _counts(moments, k, term).reshape(first.size, second.size)
            stays = cells > 0
            told_alone = [t.name in names for t in (first, second)]
            if told_alone[0]:  # a column for each level of the first is in the model already
                stays[:, gone.get(second.name, int(np.argmax(cells.sum(0))))] = False
            if told_alone[1]:
                stays[gone.get(first.name, int(np.argmax(cells.sum(1))))] = False
            if not any(told_alone):
                stays.flat[int(np.argmax(cells))] = False
            inside = np.flatnonzero(stays)
        kept.append(start + inside)
    return np.concatenate(kept)


def _counts(moments: Moments, k: int, term: Term) -> Array:
    start = int(moments.starts[k])
    counts: Array = moments.cross[0, start : start + term.size]
    return counts


def tell(
    parts: Sequence[Term],
    moments: Moments,
    columns: NDArray[np.intp],
    level_form: bool = False,
    at: Mapping[str, float] | None = None,
) -> Telling:
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
        Where amounts are held that a coefficient is not about; 0 for those not named.

    Returns
    -------
    Telling
        The intercept, then each term's coefficients in order.
    """
    single = {p.name: p for t in parts for p in (t.parts or (t,))}
    names = {t.name for t in parts}
    codings: dict[str, Contrasts] = {}
    for name, term in single.items():
        if term.is_group:
            scheme = term.column.scheme
            form = "effect" if level_form and scheme != "indicator" else scheme
            codings[name] = contrasts(form, term.labels, term.base, term.places.tolist())
    centre = {t.name: float(moments.centres[k]) for k, t in enumerate(parts, 1) if t.kind == "amount"}
    for k, term in enumerate(parts, 1):
        if term.kind == "slope":
            centre.setdefault(term.parts[0].name, float(moments.centres[k]))
    places = at or {}
    reference = {
        n: (codings[n].intercept if n in codings else np.array([places.get(n, 0.0) - centre[n]])) for n in single
    }

    width = moments.cross.shape[0]
    every = [(int(moments.starts[k]), term.variables) for k, term in enumerate(parts, 1)]
    holding = {name: [entry for entry in every if name in entry[1]] for name in single}

    def columns_at(chosen: dict[str, Array]) -> Array:
        """Return the full set of columns with some variables contrasted and the others at their reference."""
        wide = np.zeros(width)
        for start, variables in holding[next(iter(chosen))] if chosen else every:
            if len(variables) == 1:
                values = chosen.get(variables[0], reference[variables[0]])
                if len(chosen) > 1:
                    continue
            elif all(name in variables for name in chosen):
                first, second = (chosen.get(name, reference[name]) for name in variables)
                values = np.outer(first, second).ravel()
            else:
                continue
            wide[start : start + len(values)] = values
        return wide

    told, wide = [Told("(intercept)", Compared("", "", False))], [columns_at({})]
    for term in parts:
        for compared, levels, chosen in _own_rows(term, codings, names):
            told.append(Told(term.name, compared, levels))
            wide.append(columns_at(chosen))
    stacked = np.array(wide)
    empty = moments.cross[0] == 0
    crossed = np.zeros(width, dtype=bool)
    for k, term in enumerate(parts, 1):
        crossed[moments.starts[k] : moments.starts[k] + term.size] = term.kind == "cross"
    known = ~np.any(np.abs(stacked[:, empty & crossed]) > 0, axis=1)
    return Telling(tuple(told), stacked[:, columns], known, np.arange(len(told)) == 0)


def _own_rows(
    term: Term, codings: dict[str, Contrasts], names: set[str]
) -> list[tuple[Compared, tuple[int, ...], dict[str, Array]]]:
    one = np.ones(1)
    if term.kind == "amount":
        return [(Compared("", "", False), (), {term.name: one})]
    if term.kind == "group":
        coding = codings[term.name]
        places = {label: k for k, label in enumerate(term.labels)}
        return [
            (c, (places[c.level],) if c.level in places else (), {term.name: w})
            for c, w in zip(coding.rows, coding.weights, strict=True)
        ]
    if term.kind == "slope":
        amount, group = term.parts
        coding = codings[group.name]
        if amount.name not in names:  # no common slope to differ from: each level has its own
            return [
                (Compared(label, "", False), (k,), {amount.name: one, group.name: np.eye(group.size)[k]})
                for k, label in enumerate(group.labels)
            ]
        places = {label: k for k, label in enumerate(group.labels)}
        return [
            (c, (places[c.level],) if c.level in places else (), {amount.name: one, group.name: w})
            for c, w in zip(coding.rows, coding.weights, strict=True)
        ]
    first, second = term.parts
    rows: list[tuple[Compared, tuple[int, ...], dict[str, Array]]] = []
    pairs = itertools.product(
        zip(codings[first.name].rows, codings[first.name].weights, strict=True),
        zip(codings[second.name].rows, codings[second.name].weights, strict=True),
    )
    for (a, w), (b, v) in pairs:
        base = a.base or b.base
        against = "" if base else f"{a.against or '–'} × {b.against or '–'}"
        levels = tuple(t.labels.index(c.level) for t, c in ((first, a), (second, b)) if c.level in t.labels)
        compared = Compared(f"{a.level} × {b.level}", against, base)
        rows.append((compared, levels if len(levels) == 2 else (), {first.name: w, second.name: v}))
    return rows
