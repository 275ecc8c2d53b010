"""The terms of a model: columns of a study with the levels of them that occur."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.requested_terms import Spec, names_of
from markbase.core.errors import FitError
from markbase.core.study.column import Column


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
    """One term of a model: a column of the study and the levels of it that occur, or two such terms together."""

    name: str
    """The name of the term."""
    column: Column
    """The column it is made of."""
    places: NDArray[np.intp]
    """Shape (levels,): the levels of the column that occur in the rows used; empty for a numeric column."""
    base: int = 0
    """Which of `places` is the base."""
    parts: tuple[Term, ...] = ()
    """The two terms that a slope by group, or a crossing of groups, is made of; empty for a single column."""

    @cached_property
    def kind(self) -> Literal["numeric", "categorical", "slope", "cross"]:
        """What the term is."""
        if self.parts:
            return "cross" if self.parts[0].is_categorical else "slope"
        return "categorical" if self.column.is_categorical else "numeric"

    @cached_property
    def is_categorical(self) -> bool:
        """Whether the term is a single group."""
        return self.kind == "categorical"

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
        """The labels of the levels that occur; empty for a numeric column."""
        return [self.column.levels[place].label for place in self.places]

    @property
    def base_label(self) -> str:
        """The label of the base; empty for a numeric column."""
        return self.labels[self.base] if self.is_categorical else ""

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
        if not self.is_categorical:
            return Block(1, multiplier=self.column.values)
        if len(self.places) == len(self.column.levels):
            return Block(len(self.places), codes=self.column.values)
        slot = np.full(len(self.column.levels) + 1, -1, dtype=np.int32)
        slot[self.places] = np.arange(len(self.places))
        return Block(len(self.places), codes=slot[self.column.values])


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
        first, second = (single[name] for name in names_of(spec))
        terms.append(Term(spec.name, first.column, second.places, second.base, (first, second)))
    return tuple(terms)


def make_numeric(column: Column) -> Term:
    """Make a term of a numeric column that is known to vary."""
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
        If a numeric column is constant, a group has one level only, or its chosen base has no row left.
    """
    if not column.is_categorical:
        low, high = column.span
        if used is not None and low < high:
            values = column.values[used]
            low, high = values.min(), values.max()
        if low == high:
            raise FitError(
                f"`{column.name}` is {low:g} in every row used, so it can explain nothing; leave it out of the terms."
            )
        return make_numeric(column)
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
