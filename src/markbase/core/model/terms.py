"""What a model is built from."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import ColumnError, FitError, listed, quoted, remark
from markbase.core.study.column import Column
from markbase.core.study.remarks import looks_like_identifier
from markbase.core.study.study import Study


@dataclass(frozen=True, eq=False)
class Block:
    """A term as the arithmetic sees it: the column of level k is `multiplier` where `codes` is k, else 0."""

    levels: int
    """How many columns it stands for."""
    codes: NDArray[np.integer] | None = None
    """Shape (rows,): the level of each row; None if there is one level, which every row has."""
    multiplier: NDArray[np.float64] | None = None
    """Shape (rows,): the number each row is multiplied with; None for 1."""


@dataclass(frozen=True)
class Slope:
    """A slope that may differ by group: made by `slope`."""

    amount: str
    """The amount."""
    by: str
    """The group."""

    @property
    def name(self) -> str:
        """What the term is called: ``age by voice``."""
        return f"{self.amount} by {self.by}"


@dataclass(frozen=True)
class Cross:
    """Differences between the levels of one group that may differ by another: made by `cross`."""

    first: str
    """A group."""
    second: str
    """Another group."""

    @property
    def name(self) -> str:
        """What the term is called: ``voice × rehearsal_day``."""
        return f"{self.first} × {self.second}"


def slope(amount: str, *, by: str) -> Slope:
    """Let the slope of an amount differ by group.

    Parameters
    ----------
    amount : str
        An amount; give it as a term of its own as well.
    by : str
        A group; give it as a term of its own as well.

    Returns
    -------
    Slope
        To stand among the terms of a fit.
    """
    return Slope(amount, by)


def cross(first: str, second: str) -> Cross:
    """Let the differences between the levels of one group differ by another.

    Parameters
    ----------
    first, second : str
        Two groups; give each as a term of its own as well.

    Returns
    -------
    Cross
        To stand among the terms of a fit.
    """
    return Cross(first, second)


@dataclass(frozen=True, eq=False)
class Term:
    """One term of a model: a column of the study and the levels of it that occur, or two such terms together."""

    name: str
    """The name of the term."""
    column: Column
    """The column it is made of."""
    places: NDArray[np.intp]
    """Shape (levels,): the levels of the column that occur in the rows used; empty for an amount."""
    base: int = 0
    """Which of `places` is the base."""
    parts: tuple[Term, ...] = ()
    """The two terms that a slope by group, or a crossing of groups, is made of; empty for a single column."""

    @cached_property
    def kind(self) -> Literal["amount", "group", "slope", "cross"]:
        """What the term is."""
        if self.parts:
            return "cross" if self.parts[0].is_group else "slope"
        return "group" if self.column.is_group else "amount"

    @cached_property
    def is_group(self) -> bool:
        """Whether the term is a single group."""
        return self.kind == "group"

    @cached_property
    def variables(self) -> tuple[str, ...]:
        """The names of the columns it is made of."""
        return tuple(t.name for t in self.parts) or (self.name,)

    @cached_property
    def size(self) -> int:
        """How many columns its full set of levels has."""
        if self.kind == "cross":
            return self.parts[0].size * self.parts[1].size
        return self.parts[1].size if self.kind == "slope" else max(len(self.places), 1)

    @cached_property
    def labels(self) -> list[str]:
        """The labels of the levels that occur; empty for an amount."""
        return [self.column.levels[place].label for place in self.places]

    @property
    def base_label(self) -> str:
        """The label of the base; empty for an amount."""
        return self.labels[self.base] if self.is_group else ""

    def block(self) -> Block:
        """Return the term as the arithmetic sees it, over all rows of the study."""
        if self.kind == "slope":
            return Block(self.size, self.parts[1].block().codes, self.parts[0].column.values)
        if self.kind == "cross":
            first, second = (part.block().codes for part in self.parts)
            assert first is not None
            assert second is not None
            joint = first.astype(np.int64) * self.parts[1].size + second
            return Block(self.size, np.where((first < 0) | (second < 0), -1, joint))
        if not self.is_group:
            return Block(1, multiplier=self.column.values)
        if len(self.places) == len(self.column.levels):
            return Block(len(self.places), codes=self.column.values)
        slot = np.full(len(self.column.levels) + 1, -1, dtype=np.int32)
        slot[self.places] = np.arange(len(self.places))
        return Block(len(self.places), codes=slot[self.column.values])


def outcome_column(study: Study, name: str) -> Column:
    """Return the outcome of a linear model, checked.

    Parameters
    ----------
    study : Study
        The data.
    name : str
        The name of the outcome.

    Returns
    -------
    Column
        An amount without a fault.

    Raises
    ------
    ColumnError
        If there is no such column, it is a group, or it cannot be used as declared.
    """
    column = study.column(name)
    if column.is_group and column.doubt:
        raise ColumnError(f"The outcome `{name}` cannot be taken as an amount: {column.doubt}.")
    if column.is_group:
        raise ColumnError(
            f"The outcome `{name}` is a group of {len(np.flatnonzero(column.counts))} levels, and a linear regression "
            f"needs an amount; if its levels are numbers that measure, declare it an amount."
        )
    check_usable(column)
    return column


@dataclass(frozen=True)
class AllBut:
    """Every column of a study but some: made by `all_but`."""

    names: tuple[str, ...]
    """The columns to leave out."""

    def chosen(self, study: Study, outcome: str) -> list[str]:
        """Return the columns that are left, without the outcome and columns that have a role."""
        for name in self.names:
            study.column(name)
        out = {*self.names, outcome}
        return [n for n in study.columns if n not in out and study[n].role not in ("identifier", "weight")]


def all_but(*names: str) -> AllBut:
    """Take every column as a term but those named, the outcome, identifiers and weights.

    Parameters
    ----------
    *names : str
        The columns to leave out.

    Returns
    -------
    AllBut
        To be given as the terms of a fit or a screening.
    """
    return AllBut(names)


Spec = str | Slope | Cross


def predictor_specs(study: Study, specs: Sequence[Spec] | AllBut, outcome: str) -> tuple[list[Spec], dict[str, Column]]:
    """Return what terms are wanted, and the columns they are made of, checked.

    Parameters
    ----------
    study : Study
        The data.
    specs : sequence of str, Slope or Cross, or AllBut
        What to build the model from.
    outcome : str
        The name of the outcome, which cannot be among them.

    Returns
    -------
    specs : list
        The terms in the order given, identifiers left out.
    columns : dict of str to Column
        Every column they are made of.

    Raises
    ------
    ColumnError
        If there is no such column, it is the outcome, of the wrong kind for its term, or cannot be used
        as declared.
    FitError
        If no term is given or left, or one is given twice.

    Warns
    -----
    MarkbaseWarning
        For each identifier left out, each amount that looks like one, and a slope by group or a crossing
        without its columns as terms of their own.
    """
    if isinstance(specs, AllBut):
        specs = specs.chosen(study, outcome)
    if isinstance(specs, (str, Slope, Cross)):
        raise FitError(f"Give the terms as a list of column names, for instance [{specs!r}], not as one text.")
    if not specs:
        raise FitError("Give at least one term: the name of a column to explain the outcome with.")
    wanted: list[Spec] = []
    columns: dict[str, Column] = {}
    for spec in specs:
        names = _names(spec)
        if spec in wanted or (isinstance(spec, Cross) and Cross(spec.second, spec.first) in wanted):
            raise FitError(f"The term `{spec if isinstance(spec, str) else spec.name}` is given twice; give it once.")
        found = [study.column(name) for name in names]
        for name in names:
            if name == outcome:
                raise ColumnError(f"`{name}` is the outcome and cannot be a term as well; leave it out of the terms.")
        if isinstance(spec, str) and found[0].role == "identifier":
            remark(f"`{spec}` is an identifier and says nothing about the outcome: left out of the model.")
            continue
        _check_kinds(spec, found)
        for column in found:
            if column.name not in columns:
                check_usable(column)
                _remark_on(column)
                columns[column.name] = column
        wanted.append(spec)
    if not wanted:
        raise FitError("Only identifiers were given as terms, so there is nothing to fit; add a column that measures.")
    for spec in wanted:
        alone = [name for name in _names(spec) if name not in wanted]
        if alone and not isinstance(spec, str):
            remark(
                f"`{spec.name}` is in the model without {listed(quoted(alone))} as {'a term' if len(alone) == 1 else 'terms'} of its "
                f"own: what it says then mixes the two. Add {'it' if len(alone) == 1 else 'them'} unless this is meant."
            )
    return wanted, columns


def _names(spec: Spec) -> tuple[str, ...]:
    if isinstance(spec, Slope):
        return spec.amount, spec.by
    if isinstance(spec, Cross):
        return spec.first, spec.second
    return (spec,)


def _check_kinds(spec: Spec, found: Sequence[Column]) -> None:
    if isinstance(spec, Slope) and (found[0].is_group or not found[1].is_group):
        raise ColumnError(
            f"A slope by group is of an amount, by a group: `{spec.amount}` is {_kind(found[0])}, `{spec.by}` is {_kind(found[1])}."
        )
    if isinstance(spec, Cross) and (spec.first == spec.second or not all(c.is_group for c in found)):
        raise ColumnError(
            f"A crossing is of two groups: `{spec.first}` is {_kind(found[0])}, `{spec.second}` is {_kind(found[1])}; "
            f"`slope` lets the slope of an amount differ by group."
        )


def _kind(column: Column) -> str:
    return "a group" if column.is_group else "an amount"


def _remark_on(column: Column) -> None:
    if column.guess and looks_like_identifier(column):
        remark(
            f"`{column.name}` looks like an identifier (whole numbers, none of them twice); it is in the model as an amount. "
            f"If it is one, give it the role `identifier` or leave it out."
        )
    if column.doubt:
        remark(f"`{column.name}` was taken for a group: {column.doubt}.")


def predictor_columns(study: Study, names: Sequence[Spec] | AllBut, outcome: str) -> list[Column]:
    """Return the columns of terms that are single columns, checked as `predictor_specs` does.

    Parameters
    ----------
    study : Study
        The data.
    names : sequence of str, or AllBut
        The names of the terms.
    outcome : str
        The name of the outcome, which cannot be among them.

    Returns
    -------
    list of Column
        The columns in the order given, identifiers left out.

    Raises
    ------
    FitError
        If a slope by group or a crossing is among them, and as `predictor_specs`.
    """
    wanted, columns = predictor_specs(study, names, outcome)
    for spec in wanted:
        if not isinstance(spec, str):
            raise FitError(f"`{spec.name}` is no single column; screen the columns it is made of.")
    return list(columns.values())


def make_terms(specs: Sequence[Spec], single: Mapping[str, Term]) -> tuple[Term, ...]:
    """Make the terms of a model from those of its single columns.

    Parameters
    ----------
    specs : sequence of str, Slope or Cross
        What is wanted.
    single : mapping of str to Term
        A term for each column.

    Returns
    -------
    tuple of Term
        The terms, in the order wanted.
    """
    terms = []
    for spec in specs:
        if isinstance(spec, str):
            terms.append(single[spec])
            continue
        first, second = (single[name] for name in _names(spec))
        terms.append(Term(spec.name, first.column, second.places, second.base, (first, second)))
    return tuple(terms)


def check_usable(column: Column) -> None:
    """Refuse a column with a fault or with infinite values."""
    if column.fault:
        raise ColumnError(column.fault)
    if not column.is_group and np.isinf(column.span).any():
        infinite = np.flatnonzero(np.isinf(column.values))
        raise ColumnError(
            f"`{column.name}` is infinite in {len(infinite):,} of {len(column.values):,} rows (first in row "
            f"{infinite[0] + 1}); mend those values or declare them missing."
        )


def make_amount(column: Column) -> Term:
    """Make a term of an amount that is known to vary."""
    return Term(column.name, column, np.zeros(0, dtype=np.intp))


def make_term(column: Column, used: NDArray[np.bool_] | None) -> Term:
    """Make a term of a column, on the rows used.

    Parameters
    ----------
    column : Column
        A column that can be used.
    used : ndarray of bool, shape (rows,), or None
        The rows used; None for all.

    Returns
    -------
    Term
        The term with the levels that occur and its base among them.

    Raises
    ------
    FitError
        If an amount is constant, a group has one level only, or its chosen base has no row left.
    """
    if not column.is_group:
        low, high = column.span
        if used is not None and low < high:
            values = column.values[used]
            low, high = values.min(), values.max()
        if low == high:
            raise FitError(
                f"`{column.name}` is {low:g} in every row used, so it can explain nothing; leave it out of the terms."
            )
        return make_amount(column)
    counts = column.counts if used is None else np.bincount(column.values[used], minlength=len(column.levels))
    places = np.flatnonzero(counts)
    if len(places) == 1:
        raise FitError(
            f"`{column.name}` has one level in the rows used (`{column.levels[places[0]].label}`), so there is nothing to "
            f"compare; leave it out of the terms."
        )
    base = column.base
    if base is not None and not counts[base.level] and base.chosen:
        raise FitError(
            f"No row used has the base `{column.levels[base.level].label}` of `{column.name}`; mark another base: "
            f"{', '.join(f'`{column.levels[k].label}` ({counts[k]} rows)' for k in places[:6])}."
        )
    level = base.level if base is not None and counts[base.level] else int(np.argmax(counts))
    return Term(column.name, column, places, int(np.flatnonzero(places == level)[0]))


def remake(term: Term, used: NDArray[np.bool_]) -> Term:
    """Make the same term on other rows.

    Parameters
    ----------
    term : Term
        The term.
    used : ndarray of bool, shape (rows,)
        The rows.

    Returns
    -------
    Term
        With the levels that occur there, and its base among them.

    Raises
    ------
    FitError
        As `make_term`.
    """
    if not term.parts:
        return make_term(term.column, used)
    first, second = (remake(p, used) for p in term.parts)
    return Term(term.name, first.column, second.places, second.base, (first, second))
