"""What a model is built from."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import ColumnError, FitError, remark
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


@dataclass(frozen=True, eq=False)
class Term:
    """One term of a model: a column of the study and the levels of it that occur."""

    name: str
    """The name of the term."""
    column: Column
    """The column it is made of."""
    places: NDArray[np.intp]
    """Shape (levels,): the levels of the column that occur in the rows used; empty for an amount."""
    base: int = 0
    """Which of `places` is the base."""

    @property
    def is_group(self) -> bool:
        """Whether the term is a group."""
        return self.column.is_group

    @property
    def labels(self) -> list[str]:
        """The labels of the levels that occur; empty for an amount."""
        return [self.column.levels[place].label for place in self.places]

    @property
    def base_label(self) -> str:
        """The label of the base; empty for an amount."""
        return self.labels[self.base] if self.is_group else ""

    def block(self) -> Block:
        """Return the term as the arithmetic sees it, over all rows of the study."""
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


def predictor_columns(study: Study, names: Sequence[str] | AllBut, outcome: str) -> list[Column]:
    """Return the columns of the terms, checked.

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
    ColumnError
        If there is no such column, it is the outcome, or it cannot be used as declared.
    FitError
        If no term is given or left, or one is given twice.

    Warns
    -----
    MarkbaseWarning
        For each identifier left out, and each amount that looks like one.
    """
    if isinstance(names, AllBut):
        names = names.chosen(study, outcome)
    if isinstance(names, str):
        raise FitError(f"Give the terms as a list of column names, for instance [{names!r}], not as one text.")
    if not names:
        raise FitError("Give at least one term: the name of a column to explain the outcome with.")
    columns = []
    for place, name in enumerate(names):
        column = study.column(name)
        if name == outcome:
            raise ColumnError(f"`{name}` is the outcome and cannot be a term as well; leave it out of the terms.")
        if name in list(names)[:place]:
            raise FitError(f"The term `{name}` is given twice; give it once.")
        if column.role == "identifier":
            remark(f"`{name}` is an identifier and says nothing about the outcome: left out of the model.")
            continue
        check_usable(column)
        if column.guess and looks_like_identifier(column):
            remark(
                f"`{name}` looks like an identifier (whole numbers, none of them twice); it is in the model as an amount. "
                f"If it is one, give it the role `identifier` or leave it out."
            )
        if column.doubt:
            remark(f"`{name}` was taken for a group: {column.doubt}.")
        columns.append(column)
    if not columns:
        raise FitError("Only identifiers were given as terms, so there is nothing to fit; add a column that measures.")
    return columns


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
