"""What the columns of a model are on average, when some variables are set and the others are as in the rows used.

A variable that was derived from others follows them: where `age` is set, its logarithm or its square is that of the value.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property, reduce

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.coefficient_map import components_of
from markbase.core.design.moments import Moments
from markbase.core.design.terms import Component, Term, Variable, variables_of
from markbase.core.errors import FitError
from markbase.core.rows.parts import each_part
from markbase.core.rows.sums import totals_of
from markbase.core.study.column import Column
from markbase.core.study.derived_values import derivatives_of, value_of

Array = NDArray[np.float64]
Setting = Mapping[str, "float | Array"]
"""Values of numeric variables, and shares of the levels of groups."""
_Key = tuple[int, frozenset[str]]
"""A component, and what of it is as it is in the rows."""


class NoSuchRowsError(FitError):
    """What is asked for rests on a combination of levels of an interaction that no row used has."""

    told = ""
    """That it does, as a clause."""


@dataclass(frozen=True, eq=False)
class Sample:
    """The rows of a fit, as averages need them."""

    terms: tuple[Term, ...]
    """The terms."""
    moments: Moments
    """For sizes and centres."""
    used: NDArray[np.bool_] | None
    """Shape (rows,): the rows used; None for all."""
    weights: Array | None
    """Shape (rows,): with how much each row counts."""
    means: Array
    """Shape (columns of the moments,): the mean of every column over the rows, numeric columns from their centres."""
    _known: dict[_Key, Array] = field(default_factory=dict)
    """Means of parts of components, kept once taken."""

    @property
    def inside(self) -> slice | NDArray[np.bool_]:
        """The rows used, as something that indexes an array."""
        return slice(None) if self.used is None else self.used

    @cached_property
    def lacking(self) -> dict[frozenset[str], tuple[tuple[str, ...], NDArray[np.bool_]]]:
        """Of interactions of groups the combinations that no row used has: the groups in order, and shape (levels of each), true where none has it.

        Interactions whose every combination some row has are not among them.
        """
        found = {}
        for k, component in enumerate(components_of(self.terms)):
            start = int(self.moments.starts[k + 1])
            none = self.means[start : start + component.size] == 0
            if len(component.groups) > 1 and not component.numerics and none.any():
                names = tuple(g.name for g in component.groups)
                found[frozenset(names)] = names, none.reshape([g.size for g in component.groups])
        return found

    def check(self, setting: Setting) -> None:
        """Refuse a setting at which a mean runs over a combination of levels of an interaction that no row used has: `NoSuchRowsError`."""
        for k, component in enumerate(components_of(self.terms) if self.lacking else ()):
            if component.names in self.lacking and any(name in setting for name in component.names):
                self._refuse_lacking(component, self._mean(k, component, {}, setting))

    def _refuse_lacking(self, component: Component, shares: Array) -> None:
        """Refuse an average in which combinations of levels that no row used has have shares, of the columns of a component."""
        own = [g.name for g in component.groups]
        names, none = self.lacking.get(frozenset(own), ((), None))
        if none is not None and shares[np.transpose(none, [names.index(n) for n in own]).ravel()].any():
            problem = NoSuchRowsError(
                f"{told_of_lacking(names)}: name levels that some row has together, or merge levels."
            )
            problem.told = told_of_lacking(names)
            raise problem

    @property
    def heavy(self) -> Array | None:
        """Shape (rows used,): the weights; None if all rows count alike."""
        return None if self.weights is None else self.weights[self.inside]

    def followed(self, setting: Setting) -> dict[str, float | Array]:
        """Return a setting with the variables that were derived from what is set.

        Parameters
        ----------
        setting : mapping
            A value for a numeric variable; for a group the shares of its levels, shape (levels,).

        Returns
        -------
        dict
            Also a value for every derived variable all of whose sources are set; where only some are, its values in the
            rows used, shape (rows used,), recomputed with these set.
        """
        found = dict(setting)
        for name, variable in variables_of(self.terms).items():
            if name not in found and variable.column.made is not None:
                value = follow(variable.column, setting, self.inside)
                if value is not None:
                    found[name] = value
        return found

    def row(self, setting: Setting) -> Array:
        """Return the mean columns with some variables set: those of `rows` at one setting."""
        found: Array = self.rows([setting])[0]
        return found

    def rows(self, settings: Sequence[Setting]) -> Array:
        """Return the mean columns with some variables set, at several settings; rows in parts are gone through once for all of them.

        Parameters
        ----------
        settings : sequence of mapping
            A value for a numeric variable; for a group the shares of its levels, shape (levels,), 1 for the level it is set to.

        Returns
        -------
        ndarray, shape (settings, columns of the moments)
            Numeric columns from their centres. Of a product what is set is that value, and the rest its mean over all rows.

        Raises
        ------
        NoSuchRowsError
            If that runs over a combination of levels of an interaction that no row used has.
        """
        for setting in settings:
            self.check(setting)
        wide, asked = np.tile(self.means, (len(settings), 1)), list[tuple[int, slice, float, _Asked]]()
        for at, setting in enumerate(map(self.followed, settings)):
            for k, component in enumerate(components_of(self.terms)):
                if any(name in setting for name in component.names):
                    factors = {v.name: _from_shift(component, v, p, setting) for v, p in component.numerics}
                    start, centre = int(self.moments.starts[k + 1]), float(self.moments.centres[k + 1])
                    columns = slice(start, start + component.size)
                    wide[at, columns] = 0.0 if component.groups else -centre
                    asked.append((at, columns, 1.0, self._asked(k, component, factors, setting)))
                    if centre and component.groups:
                        shares = self._asked(k, component, dict.fromkeys(factors, 1.0), setting)
                        asked.append((at, columns, -centre, shares))
        for (at, columns, times, one), part in zip(asked, self._parts([one for *_, one in asked]), strict=True):
            wide[at, columns] += times * one.whole(part)
        return wide

    def slope(self, name: str, setting: Setting) -> Array:
        """Return by how much the mean columns rise per unit of a numeric variable: as `slopes` at one setting."""
        found: Array = self.slopes(name, [setting])[0]
        return found

    def slopes(self, name: str, settings: Sequence[Setting]) -> Array:
        """Return by how much the mean columns rise per unit of a numeric variable, at several settings; rows in parts are gone through once for all of them.

        Parameters
        ----------
        name : str
            The variable; where a setting has no value of it, the rise is averaged over its values in the rows.
        settings : sequence of mapping
            As for `rows`.

        Returns
        -------
        ndarray, shape (settings, columns of the moments)
            The derivatives, those of derived variables by the chain rule.

        Raises
        ------
        NoSuchRowsError
            As `rows`, of interactions the variable is in.
        """
        wide, asked = np.zeros((len(settings), len(self.means))), list[tuple[int, slice, _Asked]]()
        for at, setting in enumerate(map(self.followed, settings)):
            asked += [(at, *one) for one in self._rises(name, setting)]
        for (at, columns, one), part in zip(asked, self._parts([one for *_, one in asked]), strict=True):
            wide[at, columns] += one.whole(part)
        return wide

    def _rises(self, name: str, setting: Setting) -> Iterator[tuple[slice, _Asked]]:
        """Yield the means that the slope along a variable is made of at a setting that was followed, with the columns they are of."""
        rises = {
            v.name: rise
            for v in variables_of(self.terms).values()
            if not v.is_categorical and (rise := derivative_along(v.column, name, setting, self.inside)) is not None
        }
        for k, component in enumerate(components_of(self.terms)):
            start = int(self.moments.starts[k + 1])
            for moving, power in component.numerics:
                if moving.name not in rises:
                    continue
                factors = {v.name: _from_shift(component, v, p, setting) for v, p in component.numerics}
                lower = _from_shift(component, moving, power - 1, setting) if power > 1 else 1.0
                if lower is None:
                    lower = (moving.column.values[self.inside] - component.shift_of(moving)) ** (power - 1)
                if len(component.groups) > 1:
                    self._refuse_lacking(component, self._mean(k, component, dict.fromkeys(factors, 1.0), setting))
                factors[moving.name] = power * lower * rises[moving.name]
                yield slice(start, start + component.size), self._asked(k, component, factors, setting)

    def _mean(
        self, k: int, component: Component, factors: Mapping[str, float | Array | None], setting: Setting
    ) -> Array:
        """Return the mean of a product over the rows, shape (columns of the component,)."""
        asked = self._asked(k, component, factors, setting)
        return asked.whole(self._parts([asked])[0])

    def _asked(
        self, k: int, component: Component, factors: Mapping[str, float | Array | None], setting: Setting
    ) -> _Asked:
        """Say what must be known of the rows for the mean of a product over them.

        A factor is a number, values in the rows used, or None for the variable as it is in the rows.
        """
        scale = 1.0
        open_values: list[Array] = []
        as_it_is: set[str] = set()
        for variable, power in component.numerics:
            factor = factors[variable.name]
            if factor is None:
                as_it_is.add(variable.name)
                open_values.append((variable.column.values[self.inside] - component.shift_of(variable)) ** power)
            elif np.ndim(factor):
                open_values.append(factor)  # type: ignore[arg-type]
            else:
                scale *= float(factor)
        open_groups = [g for g in component.groups if g.name not in setting]
        key = (k, frozenset(as_it_is | {g.name for g in open_groups})) if len(open_values) == len(as_it_is) else None
        held = {g.name: np.asarray(setting[g.name]) for g in component.groups if g.name in setting}
        return _Asked(component, key, scale, open_values, open_groups, held)

    def _parts(self, asked: Sequence[_Asked]) -> list[Array]:
        """Return the mean over the rows of each product of values, by the joint levels of some groups: in one pass, but for what is known already."""
        keys: list[_Key] = [one.key or (-1 - number, frozenset()) for number, one in enumerate(asked)]
        new = {key: one for key, one in zip(keys, asked, strict=True) if key not in self._known}
        found: dict[_Key, Array] = {key: np.ones(()) for key, one in new.items() if not (one.values or one.groups)}
        rest = {key: (one.values, one.groups) for key, one in new.items() if key not in found}
        if rest:
            found |= zip(rest, self.open_means(list(rest.values())), strict=True)
        self._known.update({key: found[key] for key, one in new.items() if one.key is not None})
        return [found[key] if key in found else self._known[key] for key in keys]

    def open_means(self, several: Sequence[tuple[Sequence[Array], Sequence[Variable]]]) -> list[Array]:
        """Return the means over the rows of products of values, each by the joint levels of some groups, in one pass.

        Parameters
        ----------
        several : sequence of tuple
            The factors, shape (rows used,) each, and the groups of each product.

        Returns
        -------
        list of ndarray
            Shape (levels of each group): the sums over all rows used, by what these count.
        """
        codes = {g.name: g.codes[self.inside] for _, groups in several for g in groups}
        sizes = [{g.name: g.size for g in groups} for _, groups in several]
        values = [list(own) for own, _ in several]
        *sums, total = totals_of(each_part(_SumsOf(sizes), values, codes, self.heavy))
        return [
            own.reshape([g.size for g in groups]) / float(total) for own, (_, groups) in zip(sums, several, strict=True)
        ]


@dataclass(frozen=True, eq=False)
class _Asked:
    """The mean of a product over the rows, before these are looked at."""

    component: Component
    """Of which it is a mean."""
    key: _Key | None
    """What it is known by once it was taken; None where it is made of other values than those in the rows."""
    scale: float
    """What is set of it."""
    values: list[Array]
    """Shape (rows used,) each: the factors that are not."""
    groups: list[Variable]
    """The groups that are not set."""
    held: Mapping[str, Array]
    """The shares of the levels of those that are."""

    def whole(self, part: Array) -> Array:
        """Return it, shape (columns of the component,), with the mean over the rows of what is not set."""
        whole = reduce(np.multiply.outer, self.held.values(), np.asarray(self.scale))
        whole = np.multiply.outer(whole, part) if np.ndim(part) else whole * part
        order = [*self.held, *(g.name for g in self.groups)]
        return np.transpose(whole, [order.index(g.name) for g in self.component.groups]).ravel()


class _SumsOf:
    """Sums, in some rows, of products of values by the joint levels of groups, and at last how much the rows count."""

    def __init__(self, sizes: Sequence[Mapping[str, int]]) -> None:
        self.sizes = sizes
        """The groups of each sum, with their levels."""

    def __call__(
        self, values: Sequence[Sequence[Array]], codes: Mapping[str, NDArray[np.integer]], heavy: Array | None
    ) -> tuple[Array, ...]:
        rows = next(len(a) for a in (*(v for own in values for v in own), *codes.values()))
        found = []
        for own, sizes in zip(values, self.sizes, strict=True):
            weights = heavy
            for value in own:
                weights = value if weights is None else weights * value
            if not sizes and weights is not None:
                found.append(np.asarray(weights.sum()))
                continue
            joint = np.zeros(rows, dtype=np.int64)
            for name, size in sizes.items():
                joint = joint * size + codes[name]
            sums = np.bincount(joint, weights=weights, minlength=math.prod(sizes.values()))
            found.append(sums.astype(np.float64))
        return *found, np.asarray(float(rows) if heavy is None else float(heavy.sum()))


def told_of_lacking(names: Sequence[str]) -> str:
    """Say that an interaction of some groups tells nothing of what was asked."""
    return f"`{' × '.join(names)}` is in the model and no row used has a combination of levels that this rests on"


def _from_shift(component: Component, variable: Variable, power: int, setting: Setting) -> float | Array | None:
    """Return a power of a variable where it is set, from its shift; None where it is as in the rows."""
    if variable.name not in setting:
        return None
    value: float | Array = (_as_array(setting[variable.name]) - component.shift_of(variable)) ** power
    return value


def _as_array(value: float | Array) -> Array:
    """Return a number as an array of no dimension, and an array as it is."""
    return value if np.ndim(value) else np.asarray(value, dtype=np.float64)  # type: ignore[return-value]


def follow(column: Column, setting: Setting, inside: slice | NDArray[np.bool_]) -> float | Array | None:
    """Return the value of a derived column where its sources are set; None where none of them is, or it cannot be computed."""
    if column.made is None or not column.made.sources or column.is_categorical:
        return None
    values: list[float | Array | None] = []
    for source in column.made.sources:
        if source.name in setting:
            values.append(None if source.is_categorical else setting[source.name])
        else:
            values.append(follow(source, setting, inside))
    if all(v is None for v in values):
        return None
    known = [
        source.values[inside] if v is None else _as_array(v)
        for v, source in zip(values, column.made.sources, strict=True)
    ]
    found = value_of(column.made, known)
    if found is None:
        return None
    return float(found) if np.ndim(found) == 0 else found


def derivative_along(
    column: Column, name: str, setting: Setting, inside: slice | NDArray[np.bool_]
) -> float | Array | None:
    """Return by how much a column rises per unit of one it is, or was derived from; None where it does not depend on it."""
    if column.name == name:
        return 1.0
    if (
        column.made is None
        or not column.made.sources
        or (column.name in setting and follow(column, setting, inside) is None)
    ):
        return None
    rises = [derivative_along(source, name, setting, inside) for source in column.made.sources]
    if all(r is None for r in rises):
        return None
    known = []
    for source in column.made.sources:
        value = setting[source.name] if source.name in setting else follow(source, setting, inside)
        known.append(source.values[inside] if value is None else _as_array(value))
    slopes = derivatives_of(column.made, known)
    if slopes is None:
        return None
    total: float | Array = 0.0
    for rise, slope in zip(rises, slopes, strict=True):
        if rise is not None:
            total = total + rise * slope
    return total
