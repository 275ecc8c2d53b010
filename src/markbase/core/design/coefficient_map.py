"""From inner coefficients to those the analyst asked for.

Every coefficient is a linear functional of what the model gives over profiles, and a functional of a product is the
product of functionals: of a group the weights of its levels (its own contrast, or the reference it is held at), of a
numeric variable the coefficient of one of its powers, or its value where it is held. Putting these in the place of the
variables gives each coefficient as a combination of the columns of the model, whatever base, coding or centre is inside.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import reduce
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.moments import Moments
from markbase.core.design.terms import POWER_MARKS, Component, Term, variables_of
from markbase.core.study.coding import Compared, Contrasts, contrasts

Array = NDArray[np.float64]
_MOST_CELLS = 1500
_INDEPENDENT = 1e-9


class Coefficient(NamedTuple):
    """One coefficient."""

    term: str
    """The term; ``(intercept)`` for the intercept."""
    compared: Compared
    """What is compared, as it is shown."""
    levels: tuple[tuple[str, int], ...] = ()
    """Groups, and which of their levels the row is about."""
    powers: tuple[tuple[str, int], ...] = ()
    """Numeric columns, and the power the row is about."""
    shown_levels: tuple[tuple[str, str], ...] = ()
    """Groups, and how the level (or trend) the row is about is shown."""

    @property
    def key(self) -> frozenset[tuple[str, int]]:
        """What it is a coefficient of, by name and power (0 for a group), as the keys of components are."""
        return frozenset([*self.powers, *((name, 0) for name, _ in self.shown_levels)])


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
    lacking: Array
    """Shape (rows, combinations of levels that no row has): with what weight each rests on them; those on which any does."""

    @property
    def told(self) -> list[int]:
        """The places of the coefficients that have an estimate of their own: no base, and known."""
        return [k for k, row in enumerate(self.rows) if not row.compared.base and self.known[k]]


def components_of(terms: Sequence[Term]) -> list[Component]:
    """Return the components of some terms, in order; component k is block k + 1 of their moments."""
    return [component for term in terms for component in term.components]


def cell_counts(k: int, components: Sequence[Component], moments: Moments) -> Array:
    """Return the weight of the rows at each column of component `k`, by the sums of the groups alone.

    Ones where the model has not these groups by themselves.
    """
    wanted = components[k]
    names = [g.name for g in wanted.groups]
    for place, other in enumerate(components):
        if not other.numerics and other.names == frozenset(names):
            start = int(moments.starts[place + 1])
            there = [g.name for g in other.groups]
            counts = moments.cross[0, start : start + other.size].reshape([g.size for g in other.groups])
            return np.transpose(counts, [there.index(n) for n in names]).ravel()
    return np.ones(wanted.size)


def design_columns(terms: Sequence[Term], moments: Moments) -> NDArray[np.intp]:
    """Choose the inner columns of a model among those of its moments: of each group one level goes out, its most populous.

    Of an interaction of groups only cells with rows stay, and of these as many as the lower terms leave to be told.
    """
    components = components_of(terms)
    starts = moments.starts.tolist()
    end = starts[len(components)] + components[-1].size if components else 1
    stays = np.arange(end) > 0
    gone: dict[str, int] = {}
    for k, component in enumerate(components):
        if len(component.groups) == 1 and not component.numerics:
            gone[component.groups[0].name] = int(cell_counts(k, components, moments).argmax())
    for k, component in enumerate(components):
        if not component.groups:
            continue
        counts = cell_counts(k, components, moments).reshape([g.size for g in component.groups])
        out = [gone.get(g.name, g.base) for g in component.groups]
        stays[starts[k + 1] : starts[k + 1] + component.size] = _free_cells(counts, out).ravel()
    return np.flatnonzero(stays)


def _free_cells(counts: Array, gone: Sequence[int]) -> NDArray[np.bool_]:
    """Return which cells of a product of groups the lower terms do not tell."""
    free = counts > 0
    for axis, level in enumerate(gone):
        free[(slice(None),) * axis + (level,)] = False
    empty = int(np.sum(counts == 0))
    if not empty or counts.ndim == 1 or counts.size - empty > _MOST_CELLS:
        return free
    # with empty cells the lower terms may tell other cells than those of the levels that went out
    cells = np.argwhere(counts > 0)
    order = np.lexsort((-counts[tuple(cells.T)], free[tuple(cells.T)]))
    lower = _lower_columns(cells, counts.shape)
    basis: list[Array] = []
    rank = int(np.linalg.matrix_rank(lower))
    told = np.zeros(len(cells), dtype=bool)
    for k in order:
        rest = lower[k].copy()
        for _ in range(2):
            for b in basis:
                rest -= (rest @ b) * b
        length = float(np.linalg.norm(rest))
        if length > _INDEPENDENT * float(np.linalg.norm(lower[k])):
            basis.append(rest / length)
            told[k] = True
            if len(basis) == rank:
                break
    free[...] = False
    free[tuple(cells[~told].T)] = True
    return free


def _lower_columns(cells: NDArray[np.intp], shape: tuple[int, ...]) -> Array:
    """Return the indicators of all smaller products of groups, a row a cell."""
    axes = range(len(shape))
    columns = []
    for some in itertools.combinations(axes, len(shape) - 1):
        joint = np.zeros(len(cells), dtype=np.intp)
        for axis in some:
            joint = joint * shape[axis] + cells[:, axis]
        columns.append(np.eye(math.prod(shape[a] for a in some))[joint])
    return np.hstack(columns)


def map_coefficients(
    terms: Sequence[Term],
    moments: Moments,
    columns: NDArray[np.intp],
    level_form: bool = False,
    at: Mapping[str, float] | None = None,
    without: str = "",
) -> CoefficientMap:
    """Say what each coefficient is, the intercept first, as a combination of the inner `columns`, shape (p,).

    With `level_form` groups that are not coded by indicators are told by the effects of their levels. `at` says where
    numeric columns are held that a coefficient is not about, 0 for those not named; powers count from there. `without` names a
    group, coded by indicators, at whose base all coefficients are told, and of which none is told itself.
    """
    variables, components = variables_of(terms), components_of(terms)
    codings: dict[str, Contrasts] = {}
    for name, variable in variables.items():
        if variable.is_categorical:
            scheme = variable.column.scheme
            form = "effect" if level_form and scheme != "indicator" else scheme
            if name == without:
                at_base = (np.arange(variable.size) == variable.base).astype(np.float64)
                codings[name] = Contrasts((), np.zeros((0, variable.size)), at_base)
            else:
                codings[name] = contrasts(form, variable.labels, variable.base, variable.places.tolist())
    rows = [_Row(Coefficient("(intercept)", Compared("", "", False)), {}, {})]
    whole: dict[str, slice] = {}  # the rows of a group by itself
    for term in terms:
        first = len(rows)
        rows += _own_rows(term, codings)
        if len(term.variables) == 1 and term.groups:
            whole[term.name] = slice(first, len(rows))
    places = at or {}
    stacked = np.zeros((len(rows), moments.cross.shape[0]))
    holding = {name: [k for k, c in enumerate(components) if name in c.names] for name in variables}
    every = range(len(components))
    alone = {k for name, own in whole.items() if len(holding[name]) == 1 for k in range(own.start, own.stop)}
    for at_row, row in enumerate(rows):
        if at_row in alone:
            continue
        wide = stacked[at_row]
        chosen = {*row.powers, *row.weights}
        for k in holding[next(iter(chosen))] if chosen else every:
            component = components[k]
            if not chosen <= component.names:
                continue  # what is contrasted does not occur in it, and contrasts of a constant are 0
            start = int(moments.starts[k + 1])
            if len(component.groups) == 1 and not component.numerics:  # the usual case, without the detour
                if not chosen:
                    wide[start : start + component.size] = codings[component.groups[0].name].intercept
                continue
            factor = _value(component, row.powers, places, float(moments.centres[k + 1]))
            vectors = [row.weights.get(g.name, codings[g.name].intercept) for g in component.groups]
            wide[start : start + component.size] = factor * reduce(np.multiply.outer, vectors, np.ones(())).ravel()
    lacking = [np.zeros((len(rows), 0))]
    for k, component in enumerate(components):
        own = slice(int(moments.starts[k + 1]), int(moments.starts[k + 1]) + component.size)
        if len(component.groups) > 1:
            empty = stacked[:, own][:, cell_counts(k, components, moments) == 0]
            lacking.append(empty[:, np.any(empty, axis=0)])
        elif component.groups and not component.numerics:
            name = component.groups[0].name
            if name in whole:
                stacked[whole[name], own] = codings[name].weights
    rests_on = np.hstack(lacking)
    return CoefficientMap(
        tuple(row.told for row in rows),
        stacked[:, columns],
        ~np.any(rests_on, axis=1),
        np.arange(len(rows)) == 0,
        rests_on,
    )


class _Row(NamedTuple):
    """A coefficient, and what it contrasts."""

    told: Coefficient
    powers: dict[str, int]
    weights: dict[str, Array]


def _value(component: Component, powers: Mapping[str, int], places: Mapping[str, float], centre: float) -> float:
    """Return what the numeric part of a component contributes: coefficients of powers, values elsewhere."""
    value, constant = 1.0, 1.0
    for variable, power in component.numerics:
        shift = component.shift_of(variable)
        chosen = powers.get(variable.name, 0)
        if chosen > power:
            return 0.0
        value *= math.comb(power, chosen) * (places.get(variable.name, 0.0) - shift) ** (power - chosen)
        constant *= 0.0 if chosen else 1.0
    return value - centre * constant if component.numerics else value


def _rows_of_group(term: Term, codings: Mapping[str, Contrasts]) -> Iterator[_Row]:
    """Yield the rows of a group by itself, of which there may be very many."""
    (group,) = term.groups
    name, coding, places = group.name, codings[group.name], {label: k for k, label in enumerate(group.labels)}
    for compared, weights in zip(coding.rows, coding.weights, strict=True):
        level = compared.level
        levels = ((name, places[level]),) if level in places else ()
        yield _Row(Coefficient(term.name, compared, levels, (), ((name, level),)), {}, {name: weights})


def _own_rows(term: Term, codings: Mapping[str, Contrasts]) -> Iterator[_Row]:
    if len(term.variables) == 1 and term.groups:
        yield from _rows_of_group(term, codings)
        return
    curved = any(degree > 1 for degree in term.degrees)
    ways = [list(zip(codings[g.name].rows, codings[g.name].weights, strict=True)) for g in term.groups]
    places = [{label: k for k, label in enumerate(g.labels)} for g in term.groups]
    for component in term.components:
        powers = {v.name: p for v, p in component.numerics}
        mark = "·".join(f"{name}{POWER_MARKS[p]}" for name, p in powers.items()) if curved else ""
        for some in itertools.product(*ways):
            base = any(c.base for c, _ in some)
            level = " × ".join([*([mark] if mark else []), *(c.level for c, _ in some)])
            against = "" if base else " × ".join(c.against or "–" for c, _ in some) if some else ""
            if len(some) == 1:
                against = some[0][0].against
            levels = tuple(
                (g.name, at[c.level]) for g, at, (c, _) in zip(term.groups, places, some, strict=True) if c.level in at
            )
            told = Coefficient(
                term.name,
                Compared(level, against, base),
                levels if len(levels) == len(some) else (),
                tuple(powers.items()),
                tuple((g.name, c.level) for g, (c, _) in zip(term.groups, some, strict=True)),
            )
            yield _Row(told, powers, {g.name: w for g, (_, w) in zip(term.groups, some, strict=True)})
