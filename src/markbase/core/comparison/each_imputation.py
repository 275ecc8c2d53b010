"""The rows of each of several imputations, or each of several plausible values, and one analysis of all of them in turn."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

import numpy as np

from markbase.core.comparison.imputed_rows import Imputed, original_among, what_differs
from markbase.core.errors import ColumnError, FitError, MarkbaseError, count_noun, listed, quoted, without_remarks
from markbase.core.formatting import plain
from markbase.core.rows.parts import InParts
from markbase.core.study.column import Column
from markbase.core.study.named_alike import names_like
from markbase.core.study.same_bases import with_one_base
from markbase.core.study.study import Study

_MOST = 1_000
_ALIKE = 0.5
"""Imputations of the same cases have at least such a share of the rows of the one that has most: others were left out."""
Result = TypeVar("Result")


@dataclass(frozen=True, eq=False)
class Each(Generic[Result]):
    """What an analysis gave in each imputation, or of each plausible value."""

    results: Mapping[str, Result]
    """By the labels of the imputations, in their order; by the names of the outcomes."""
    imputed: Imputed
    """What differs between the imputations, as the rows say."""
    bases: Mapping[str, str]
    """The bases that nobody chose, by the names of their groups."""


def outcomes_of(study: Study, outcome: str | Sequence[str], imputation: str | None) -> list[str]:
    """Return the outcomes that are meant: one beside a column that numbers imputations, plausible values without."""
    if imputation is None:
        return list(names_like(outcome, study.columns))
    return [outcome] if isinstance(outcome, str) else list(outcome)


def each_imputation(
    study: Study,
    outcomes: Sequence[str],
    names: Iterable[str],
    imputation: str | None,
    analysed: Callable[[Study, str], Result],
) -> Each[Result]:
    """Analyse each of several imputations, or each of several plausible values.

    Parameters
    ----------
    study : Study
        The imputations one below another.
    outcomes : sequence of str
        The outcome, or plausible values.
    names : iterable of str
        The columns of the terms.
    imputation : str, optional
        The column that numbers the imputations; None where the outcomes are plausible values.
    analysed : callable
        Takes the rows of an imputation and an outcome.

    Returns
    -------
    Each
        What it returned of each.

    Raises
    ------
    MarkbaseError
        If an imputation is named beside several outcomes, or neither.
    ColumnError
        If the column does not number imputations.
    FitError
        If `analysed` raises one, with which imputation it is.
    """
    names = list(dict.fromkeys(names))
    study, bases = with_one_base(study, names)
    if imputation is None:
        if len(set(outcomes)) < 2 or len(set(outcomes)) < len(outcomes):
            raise MarkbaseError(
                f"Name the column that numbers the imputations, or two plausible values or more as outcomes, each once, not {listed(quoted(outcomes))} alone."
            )
        of_values: dict[str, Result] = {}
        for name in outcomes:
            of_values[name] = _analysed(study, name, analysed, f"`{name}`", quiet=bool(of_values))
        return Each(of_values, Imputed(study.rows, None), bases)
    if len(outcomes) != 1:
        raise MarkbaseError(
            f"Imputations told by `{imputation}` have one outcome, not {listed(quoted(outcomes))}: name the one, or leave the imputations out where these are plausible values."
        )
    if imputation in (outcomes[0], *names):
        raise ColumnError(f"`{imputation}` numbers the imputations, and is no column of the model.")
    studies = rows_of_imputations(study, study.column(imputation))
    _check_same_cases(imputation, studies)
    original = original_among(studies)
    before = studies.pop(original, None)
    found: dict[str, Result] = {}
    for label, own in studies.items():
        found[label] = _analysed(own, outcomes[0], analysed, f"imputation `{label}`", quiet=bool(found))
    columns = list(dict.fromkeys([outcomes[0], *names]))
    return Each(found, what_differs(list(studies.values()), columns, original, before), bases)


def _check_same_cases(name: str, studies: Mapping[str, Study]) -> None:
    """Refuse what tells other rows apart than imputations of the same cases: these have about as many rows each."""
    rows = [own.rows for own in studies.values()]
    if min(rows) < _ALIKE * max(rows):
        raise ColumnError(
            f"`{name}` does not number imputations of the same cases: {min(rows):,} to {max(rows):,} rows have one of its {len(rows):,} values. Name the column that does; for other rows in "
            f"each of its levels the same model is one of subgroups."
        )


def _analysed(
    study: Study, outcome: str, analysed: Callable[[Study, str], Result], where: str, *, quiet: bool
) -> Result:
    """Analyse one; remarks of the first stand for all of them."""
    try:
        if not quiet:
            return analysed(study, outcome)
        with without_remarks():
            return analysed(study, outcome)
    except FitError as problem:
        raise FitError(f"In {where}: {problem}") from None


def rows_of_imputations(study: Study, column: Column) -> dict[str, Study]:
    """Return the rows of each imputation, by its label, in the order of their numbers."""
    if column.fault:
        raise ColumnError(column.fault)
    if column.is_categorical:
        labels = [label for label, n in zip(column.labels, column.counts, strict=True) if n]
        values: list[Any] = list(labels)
    else:
        numbers = column.values.facts.distinct if isinstance(column.values, InParts) else None
        if isinstance(column.values, InParts) and numbers is None:
            raise ColumnError(f"`{column.name}` has too many values to number imputations.")
        distinct = np.array(numbers[0]) if numbers is not None else column.distinct
        values = [float(v) for v in distinct]
        labels = [plain(v, 12) for v in values]
    if not 2 <= len(labels) <= _MOST:
        raise ColumnError(
            f"`{column.name}` tells {count_noun(len(labels), 'imputation')} apart, and there are 2 to {_MOST:,} of them; name the column that numbers them."
        )
    return {label: study.keep({column.name: {"is": value}}) for label, value in zip(labels, values, strict=True)}
