"""The terms of a model: columns, polynomials and interactions, with the levels that occur in the rows used.

A term is a product of variables. Its components are the pieces the arithmetic works with, one for each combination of
powers: ``(codes, levels, multiplier)``, of which no dense column is ever laid out.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.requested_terms import TermRequest, degrees_of, term_name
from markbase.core.errors import ColumnError, FitError, listed, near, quoted
from markbase.core.rows.parts import in_parts
from markbase.core.rows.row_functions import counted, learn, look_up
from markbase.core.study.column import Column

Array = NDArray[np.float64]
POWER_MARKS = {1: "", 2: "²", 3: "³"}


@dataclass(frozen=True, eq=False)
class CodedColumns:
    """A component as the arithmetic sees it: the column of level k is `multiplier` where `codes` is k, else 0."""

    levels: int
    """How many columns it stands for."""
    codes: NDArray[np.integer] | None = None
    """Shape (rows,): the level of each row; None if there is one level, which every row has."""
    multiplier: Array | None = None
    """Shape (rows,): the number each row is multiplied with; None for 1."""


@dataclass(frozen=True, eq=False)
class Variable:
    """A column of a model, with the levels of it that occur."""

    column: Column
    """The column."""
    places: NDArray[np.intp]
    """Shape (levels,): the levels of the column that occur in the rows used; empty for a numeric column."""
    base: int = 0
    """Which of `places` is the base."""
    shift: float = 0.0
    """What powers and products of a numeric column are taken from: its mean, to a few bits."""

    @property
    def name(self) -> str:
        """The name of the column."""
        return self.column.name

    @property
    def is_categorical(self) -> bool:
        """Whether it has levels."""
        return self.column.is_categorical

    @property
    def kind(self) -> Literal["numeric", "categorical"]:
        """What it is."""
        return "categorical" if self.is_categorical else "numeric"

    @property
    def size(self) -> int:
        """Its levels; 1 for a numeric column."""
        return max(len(self.places), 1)

    @cached_property
    def labels(self) -> list[str]:
        """The labels of the levels that occur; empty for a numeric column."""
        return [self.column.levels[place].label for place in self.places]

    @property
    def base_label(self) -> str:
        """The label of the base; empty for a numeric column."""
        return self.labels[self.base] if self.is_categorical else ""

    @cached_property
    def codes(self) -> NDArray[np.integer]:
        """Shape (rows,): which of the levels that occur each row has, −1 for none of them."""
        if len(self.places) == len(self.column.levels):
            codes: NDArray[np.integer] = self.column.values
            return codes
        slot = np.full(len(self.column.levels) + 1, -1, dtype=np.int32)
        slot[self.places] = np.arange(len(self.places))
        found: NDArray[np.integer] = look_up(slot, self.column.values)
        return found


@dataclass(frozen=True, eq=False)
class Component:
    """A product of powers of numeric variables, and of the indicators of groups."""

    numerics: tuple[tuple[Variable, int], ...]
    """The numeric variables, each with its power."""
    groups: tuple[Variable, ...]
    """The groups, the first of which varies slowest among the columns."""

    @cached_property
    def names(self) -> frozenset[str]:
        """The names of its variables."""
        return frozenset(v.name for v in (*(v for v, _ in self.numerics), *self.groups))

    @cached_property
    def key(self) -> frozenset[tuple[str, int]]:
        """What it is a product of, by name and power (0 for a group): the same for what is the same in another model."""
        return frozenset([*((v.name, power) for v, power in self.numerics), *((g.name, 0) for g in self.groups)])

    @cached_property
    def size(self) -> int:
        """How many columns it stands for."""
        return math.prod(g.size for g in self.groups)

    @cached_property
    def degree(self) -> int:
        """The sum of the powers."""
        return sum(power for _, power in self.numerics)

    def shift_of(self, variable: Variable) -> float:
        """Return what is taken from a numeric variable before it is raised to its power."""
        return variable.shift if self.degree > 1 else 0.0

    def coded(self) -> CodedColumns:
        """Return the component as the arithmetic sees it, over all rows of the study."""
        multiplier = None
        if self.degree == 1:
            multiplier = self.numerics[0][0].column.values
        elif self.numerics:
            multiplier = self.product({v.name: v.column.values for v, _ in self.numerics})
        return CodedColumns(self.size, joint_codes(self.groups) if self.groups else None, multiplier)

    def product(self, values: Mapping[str, Array | float]) -> Array:
        """Return the product of the powers at some values of the numeric variables."""
        found: Array | float = 1.0
        for variable, power in self.numerics:
            found = found * (values[variable.name] - self.shift_of(variable)) ** power
        return np.asarray(found) if np.isscalar(found) else found  # type: ignore[return-value]


def cell_label(groups: Sequence[Variable], level: int) -> str:
    """Return the labels that a joint cell of groups stands for, between backquotes."""
    places = np.unravel_index(level, [g.size for g in groups])
    return " × ".join(f"`{g.labels[int(k)]}`" for g, k in zip(groups, places, strict=True))


def joint_codes(groups: Sequence[Variable]) -> NDArray[np.integer]:
    """Return the joint cell of several groups for each row, −1 where one of them has no level."""
    codes = groups[0].codes
    if len(groups) == 1:
        return codes
    missing = codes < 0
    joint = codes.astype(np.int64)
    for group in groups[1:]:
        missing = missing | (group.codes < 0)
        joint = joint * group.size + group.codes
    return np.where(missing, -1, joint)


@dataclass(frozen=True, eq=False)
class Term:
    """One term of a model, as the analyst gave it."""

    name: str
    """What it is called."""
    variables: tuple[Variable, ...]
    """What it is made of; one for a column or a polynomial, two or three for an interaction."""
    degrees: tuple[int, ...] = (1,)
    """The highest power of each; 1 for a group."""

    @property
    def column(self) -> Column:
        """The column of its first variable."""
        return self.variables[0].column

    @cached_property
    def kind(self) -> Literal["numeric", "categorical", "polynomial", "interaction"]:
        """What the term is."""
        if len(self.variables) > 1:
            return "interaction"
        return "polynomial" if self.degrees[0] > 1 else self.variables[0].kind

    @cached_property
    def is_categorical(self) -> bool:
        """Whether the term is a single group."""
        return self.kind == "categorical"

    @cached_property
    def names(self) -> tuple[str, ...]:
        """The names of the columns it is made of."""
        return tuple(v.name for v in self.variables)

    @cached_property
    def groups(self) -> tuple[Variable, ...]:
        """The groups it is made of."""
        return tuple(v for v in self.variables if v.is_categorical)

    @cached_property
    def numerics(self) -> tuple[Variable, ...]:
        """The numeric variables it is made of."""
        return tuple(v for v in self.variables if not v.is_categorical)

    @cached_property
    def components(self) -> tuple[Component, ...]:
        """Its pieces, one for each combination of powers; lower powers first."""
        powers = [
            range(1, degree + 1) for v, degree in zip(self.variables, self.degrees, strict=True) if not v.is_categorical
        ]
        return tuple(
            Component(tuple(zip(self.numerics, chosen, strict=True)), self.groups)
            for chosen in itertools.product(*powers)
        )

    @cached_property
    def size(self) -> int:
        """How many columns its components have together."""
        return sum(c.size for c in self.components)

    @property
    def labels(self) -> list[str]:
        """The labels of the levels of a single group that occur; empty otherwise."""
        return self.variables[0].labels if self.is_categorical else []

    @property
    def base(self) -> int:
        """Which level of a single group is the base."""
        return self.variables[0].base

    @property
    def base_label(self) -> str:
        """The label of the base of a single group; empty otherwise."""
        return self.variables[0].base_label if self.is_categorical else ""

    @cached_property
    def keys(self) -> frozenset[frozenset[tuple[str, int]]]:
        """What its components are products of."""
        return frozenset(c.key for c in self.components)

    def coded(self) -> list[CodedColumns]:
        """Return its components as the arithmetic sees them, over all rows of the study."""
        return [c.coded() for c in self.components]

    def of_degrees(self, degrees: tuple[int, ...]) -> Term:
        """Return the term of the same variables with other highest powers; itself if they are its own."""
        named = term_name(dict(zip(self.names, degrees, strict=True)))
        return self if degrees == self.degrees else replace(self, name=named, degrees=degrees)

    def with_variables(self, change: Mapping[str, Variable]) -> Term:
        """Return the same term of variables of which some are put in place of those of their name."""
        return replace(self, variables=tuple(change.get(v.name, v) for v in self.variables))


def make_terms(requests: Sequence[TermRequest], variables: Mapping[str, Variable]) -> tuple[Term, ...]:
    """Make the terms of a model from its variables, in the order wanted."""
    terms = []
    for request in requests:
        degrees = degrees_of(request)
        terms.append(Term(term_name(degrees), tuple(variables[n] for n in degrees), tuple(degrees.values())))
    return tuple(terms)


def keys_of(terms: Sequence[Term]) -> frozenset[frozenset[tuple[str, int]]]:
    """Return what the components of some terms are products of: a model holds another if it has all of its keys."""
    return frozenset(key for t in terms for key in t.keys)


def contains(higher: frozenset[tuple[str, int]], key: frozenset[tuple[str, int]]) -> bool:
    """Say whether a product is a proper multiple of another: it has all of its groups, and all of its columns in as high a power."""
    powers = dict(higher)
    return higher != key and all(powers.get(name, -1) >= power for name, power in key)


def variables_of(terms: Sequence[Term]) -> dict[str, Variable]:
    """Return the variables of some terms by name, in the order in which they first occur."""
    return {v.name: v for t in terms for v in t.variables}


def levels_against(terms: Sequence[Term]) -> str:
    """Say what the levels of each group of some terms are compared with; empty without groups."""
    told = []
    for name, group in variables_of(terms).items():
        if group.is_categorical:
            scheme = group.column.scheme
            others = "against the mean of its levels" if scheme == "effect" else f"in {scheme} coding"
            told.append(f"{name} {f'against {group.base_label}' if scheme == 'indicator' else others}")
    return ", ".join(told)


def variable_of(terms: Sequence[Term], name: str, kind: str) -> Variable:
    """Return the variable of some terms that has a name and is of a kind, ``numeric`` or ``categorical``; raises ColumnError."""
    found = next((v for t in reversed(terms) for v in t.variables if v.name == name), None)
    if found is not None and found.kind == kind:
        return found
    word = "group" if kind == "categorical" else "numeric column"
    if found is not None:
        raise ColumnError(f"The model has no {word} `{name}`: it is {found.kind}.")
    every = variables_of(terms)
    alike = [v.name for v in every.values() if v.kind == kind]
    hint = near(str(name), alike) or f" It is made of {listed(quoted(every))}."
    raise ColumnError(f"The model has no {word} `{name}`.{hint}")


def single(column: Column) -> Term:
    """Make a term of a numeric column that is known to vary."""
    return Term(column.name, (Variable(column, np.zeros(0, dtype=np.intp)),))


def look_over(columns: Sequence[Column], used: NDArray[np.bool_] | None) -> None:
    """Take what variables on the rows used must know of columns whose rows come in parts, in one pass for all of them."""
    if used is None or not in_parts(used):
        return
    inside = [(column, column.values[used]) for column in columns]
    numbers = [values for column, values in inside if not column.is_categorical]
    learn(numbers, [(values, len(column.levels)) for column, values in inside if column.is_categorical])


def make_term(column: Column, used: NDArray[np.bool_] | None) -> Term:
    """Make a term of one column, on the rows used; raises as `make_variable`."""
    return Term(column.name, (make_variable(column, used),))


def make_variable(column: Column, used: NDArray[np.bool_] | None, shifted: bool = True) -> Variable:
    """Make a variable of a column on the rows used, with the levels that occur and its base among them.

    It is `shifted` if powers or products are taken of it. Raises a `FitError` if a numeric column is constant, a group has
    one level only, or its chosen base has no row left.
    """
    if not column.is_categorical:
        low, high = column.span
        if used is not None and low < high:
            values = column.values[used]
            low, high = values.min(), values.max()
        if low == high:
            raise FitError(
                f"`{column.name}` is {low:g} in every row used, so it can explain nothing; leave it out of the terms{_if_ticked(column)}."
            )
        shift = _shift(column.values, used, low, high) if shifted else 0.0
        return Variable(column, np.zeros(0, dtype=np.intp), shift=shift)
    counts = column.counts if used is None else counted(column.values[used], len(column.levels))
    places = np.flatnonzero(counts)
    if len(places) == 1:
        raise FitError(
            f"`{column.name}` has one level in the rows used (`{column.levels[places[0]].label}`), so there is nothing to "
            f"compare; leave it out of the terms{_if_ticked(column)}."
        )
    base = column.base
    if base is not None and not counts[base.level] and base.chosen:
        raise FitError(
            f"No row used has the base `{column.levels[base.level].label}` of `{column.name}`; mark another base: "
            f"{', '.join(f'`{column.levels[k].label}` ({counts[k]} rows)' for k in places[:6])}."
        )
    level = base.level if base is not None and counts[base.level] else int(np.argmax(counts))
    return Variable(column, places, int(np.flatnonzero(places == level)[0]))


def _if_ticked(column: Column) -> str:
    """Return what would do if a column of one value and blanks is that of a box to tick."""
    alone = np.count_nonzero(column.counts) == 1 if column.is_categorical else column.span[0] == column.span[1]
    blank = alone and dict(column.missing_counts()).get("blank")
    return ", or fill its blanks first, if a blank is a box that was not ticked" if blank else ""


def _shift(values: Array, used: NDArray[np.bool_] | None, low: float, high: float) -> float:
    """Return the mean of a numeric column to a few bits, so that deviations from it are exact where they can be."""
    with np.errstate(over="ignore"):
        mean = float(np.nanmean(values if used is None else values[used]))
    if not math.isfinite(mean):
        return 0.0
    unit = 2.0 ** (math.floor(math.log2(high - low)) - 6) if math.isfinite(high - low) else 1.0
    return round(mean / unit) * unit if math.isfinite(mean / unit) else mean


def remake(term: Term, used: NDArray[np.bool_]) -> Term:
    """Make the same term on other rows, with the levels that occur there; raises as `make_variable`."""
    return replace(term, variables=tuple(make_variable(v.column, used) for v in term.variables))
