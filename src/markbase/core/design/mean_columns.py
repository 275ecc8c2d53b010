"""What the columns of a model are on average, when some variables are set and the others are as in the rows used.

A variable that was derived from others follows them: where `age` is set, its logarithm or its square is that of the value.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property, reduce

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.coefficient_map import components_of
from markbase.core.design.moments import Moments
from markbase.core.design.terms import Component, Term, Variable, variables_of
from markbase.core.errors import FitError
from markbase.core.study.column import Column
from markbase.core.study.derived_values import derivatives_of, value_of

Array = NDArray[np.float64]
Setting = Mapping[str, "float | Array"]
"""Values of numeric variables, and shares of the levels of groups."""


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
    _known: dict[tuple[int, frozenset[str]], Array] = field(default_factory=dict)
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
        """Return the mean columns with some variables set.

        Parameters
        ----------
        setting : mapping
            A value for a numeric variable; for a group the shares of its levels, shape (levels,), 1 for the level it is set to.

        Returns
        -------
        ndarray, shape (columns of the moments,)
            Numeric columns from their centres. Of a product what is set is that value, and the rest its mean over all rows.

        Raises
        ------
        NoSuchRowsError
            If that runs over a combination of levels of an interaction that no row used has.
        """
        self.check(setting)
        setting = self.followed(setting)
        wide = self.means.copy()
        for k, component in enumerate(components_of(self.terms)):
            if any(name in setting for name in component.names):
                factors = {v.name: _from_shift(component, v, p, setting) for v, p in component.numerics}
                start, centre = int(self.moments.starts[k + 1]), float(self.moments.centres[k + 1])
                value = self._mean(k, component, factors, setting)
                if centre and component.groups:
                    value = value - centre * self._mean(k, component, dict.fromkeys(factors, 1.0), setting)
                elif centre:
                    value = value - centre
                wide[start : start + component.size] = value
        return wide

    def slope(self, name: str, setting: Setting) -> Array:
        """Return by how much the mean columns rise per unit of a numeric variable, at a setting.

        Parameters
        ----------
        name : str
            The variable; where the setting has no value of it, the rise is averaged over its values in the rows.
        setting : mapping
            As for `row`.

        Returns
        -------
        ndarray, shape (columns of the moments,)
            The derivatives, those of derived variables by the chain rule.

        Raises
        ------
        NoSuchRowsError
            As `row`, of interactions the variable is in.
        """
        setting = self.followed(setting)
        variables = variables_of(self.terms)
        rises = {
            v.name: rise
            for v in variables.values()
            if not v.is_categorical and (rise := derivative_along(v.column, name, setting, self.inside)) is not None
        }
        wide = np.zeros_like(self.means)
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
                wide[start : start + component.size] += self._mean(k, component, factors, setting)
        return wide

    def _mean(
        self, k: int, component: Component, factors: Mapping[str, float | Array | None], setting: Setting
    ) -> Array:
        """Return the mean of a product over the rows, shape (columns of the component,).

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
        key = (k, frozenset(as_it_is | {g.name for g in open_groups}))
        cached = len(open_values) == len(as_it_is)
        if cached and key in self._known:
            part = self._known[key]
        else:
            part = self._open_mean(open_values, open_groups)
            if cached:
                self._known[key] = part
        vectors = [np.asarray(setting[g.name]) for g in component.groups if g.name in setting]
        whole = reduce(np.multiply.outer, vectors, np.asarray(scale))
        whole = np.multiply.outer(whole, part) if np.ndim(part) else whole * part
        order = [g.name for g in component.groups if g.name in setting] + [g.name for g in open_groups]
        return np.transpose(whole, [order.index(g.name) for g in component.groups]).ravel()

    def _open_mean(self, values: Sequence[Array], groups: Sequence[Variable]) -> Array:
        """Return the mean over the rows of a product of values, by the joint levels of some groups."""
        heavy = self.heavy
        rows = len(values[0]) if values else len(groups[0].codes[self.inside]) if groups else 1
        total = float(rows) if heavy is None else float(heavy.sum())
        weights = heavy
        for value in values:
            weights = value if weights is None else weights * value
        if not groups:
            return np.asarray(1.0 if weights is None or not values else weights.sum() / total)
        joint = groups[0].codes[self.inside].astype(np.int64)
        for group in groups[1:]:
            joint = joint * group.size + group.codes[self.inside]
        shape = [g.size for g in groups]
        sums = np.bincount(joint, weights=weights, minlength=int(np.prod(shape)))
        return np.asarray(sums / total).reshape(shape)


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
