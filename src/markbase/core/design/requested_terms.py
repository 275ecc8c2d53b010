"""What a model is to be built from, and whether the study has it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from markbase.core.errors import ColumnError, FitError, listed, quoted, remark
from markbase.core.study.column import Column
from markbase.core.study.remarks import looks_like_identifier
from markbase.core.study.study import Study


@dataclass(frozen=True)
class Slope:
    """A slope that may differ by group: made by `slope`."""

    numeric: str
    """The numeric column."""
    by: str
    """The group."""

    @property
    def name(self) -> str:
        """What the term is called: ``age by voice``."""
        return f"{self.numeric} by {self.by}"


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


def slope(numeric: str, *, by: str) -> Slope:
    """Let the slope of a numeric column differ by group.

    Parameters
    ----------
    numeric : str
        A numeric column; give it as a term of its own as well.
    by : str
        A group; give it as a term of its own as well.

    Returns
    -------
    Slope
        To stand among the terms of a fit.
    """
    return Slope(numeric, by)


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
        A numeric column without a fault.

    Raises
    ------
    ColumnError
        If there is no such column, it is categorical, or it cannot be used as declared.
    """
    column = study.column(name)
    if column.is_categorical and column.doubt:
        raise ColumnError(f"The outcome `{name}` cannot be taken as a numeric column: {column.doubt}.")
    if column.is_categorical:
        raise ColumnError(
            f"The outcome `{name}` is categorical of {len(np.flatnonzero(column.counts))} levels, and a linear regression "
            f"needs a numeric column; if its levels are numbers that measure, declare it numeric."
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
        For each identifier left out, each numeric column that looks like one, and a slope by group or a crossing
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
        names = names_of(spec)
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
        alone = [name for name in names_of(spec) if name not in wanted]
        if alone and not isinstance(spec, str):
            remark(
                f"`{spec.name}` is in the model without {listed(quoted(alone))} as {'a term' if len(alone) == 1 else 'terms'} of its "
                f"own: what it says then mixes the two. Add {'it' if len(alone) == 1 else 'them'} unless this is meant."
            )
    return wanted, columns


def names_of(spec: Spec) -> tuple[str, ...]:
    """Return the names of the columns that a term is made of."""
    if isinstance(spec, Slope):
        return spec.numeric, spec.by
    if isinstance(spec, Cross):
        return spec.first, spec.second
    return (spec,)


def _check_kinds(spec: Spec, found: Sequence[Column]) -> None:
    if isinstance(spec, Slope) and (found[0].is_categorical or not found[1].is_categorical):
        raise ColumnError(
            f"A slope by group is of a numeric column, by a group: `{spec.numeric}` is {_kind(found[0])}, `{spec.by}` is {_kind(found[1])}."
        )
    if isinstance(spec, Cross) and (spec.first == spec.second or not all(c.is_categorical for c in found)):
        raise ColumnError(
            f"A crossing is of two groups: `{spec.first}` is {_kind(found[0])}, `{spec.second}` is {_kind(found[1])}; "
            f"`slope` lets the slope of a numeric column differ by group."
        )


def _kind(column: Column) -> str:
    return "a group" if column.is_categorical else "a numeric column"


def _remark_on(column: Column) -> None:
    if column.guess and looks_like_identifier(column):
        remark(
            f"`{column.name}` looks like an identifier (whole numbers, none of them twice); it is in the model as a numeric column. "
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


def check_usable(column: Column) -> None:
    """Refuse a column with a fault or with infinite values."""
    if column.fault:
        raise ColumnError(column.fault)
    if not column.is_categorical and np.isinf(column.span).any():
        infinite = np.flatnonzero(np.isinf(column.values))
        raise ColumnError(
            f"`{column.name}` is infinite in {len(infinite):,} of {len(column.values):,} rows (first in row "
            f"{infinite[0] + 1}); mend those values or declare them missing."
        )
