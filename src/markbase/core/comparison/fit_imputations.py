"""Fitting the same model in each of several imputations, or for each of several plausible values."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np

from markbase.core.arguments import checked
from markbase.core.comparison.imputations import Imputations
from markbase.core.comparison.imputed_rows import Imputed, original_among, what_differs
from markbase.core.design.fit_options import KINDS
from markbase.core.design.requested_terms import AllBut, TermRequest, degrees_of, read_term
from markbase.core.errors import ColumnError, FitError, MarkbaseError, count_noun, listed, near, quoted, without_remarks
from markbase.core.formatting import plain
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.fit_linear import fit_linear
from markbase.core.results.fit_logistic import fit_logistic
from markbase.core.rows.parts import InParts
from markbase.core.study.column import Column
from markbase.core.study.frames import AnyTable
from markbase.core.study.named_alike import names_like
from markbase.core.study.same_bases import with_one_base
from markbase.core.study.study import Study, as_study

_MOST = 1_000
_ALIKE = 0.5
"""Imputations of the same cases have at least such a share of the rows of the one that has most: others were left out."""


@checked
def fit_imputations(
    study: Study | AnyTable,
    outcome: str | Sequence[str],
    terms: Sequence[TermRequest] | AllBut,
    imputation: str | None = None,
    *,
    kind: str = "linear",
    **settings: Any,
) -> Imputations:
    """Fit the same model in each of several imputations, or for each of several plausible values, and combine them by Rubin's rules.

    Parameters
    ----------
    study : Study, or a table
        The imputations one below another, with the base of each group marked. A table (pandas, Polars, Arrow, DuckDB) is taken as a study without a
        codebook.
    outcome : str, or sequence of str
        The name of the outcome; without an `imputation` those of two or more plausible values, or what these have in common (``"pv*pitch"``).
    terms : sequence of str, Polynomial or Interaction, or AllBut
        The terms of the model.
    imputation : str, optional
        The column that numbers the imputations (or names the file of each). Where more is missing in the first than in any other it is taken for the
        data before imputation, and left out.
    kind : str
        ``linear`` or ``logistic``.
    **settings
        As for `fit_linear` or `fit_logistic`: `level`, `errors`, `cluster`, `strata`, `weights`, `weights_are`; `fixed_effects` or `event`, `penalty`.

    Returns
    -------
    Imputations
        `coefficients`, `terms`, `overall`, `strength`, `groups` and `between`, all combined; `fits`, one an imputation; print it to read it.

    Raises
    ------
    MarkbaseError
        If there is no such kind of regression, or an imputation is named beside several outcomes, or neither.
    ColumnError
        If there is no such column, or fewer than two imputations, or more than a thousand.
    FitError
        If the model cannot be fitted in one of them, or not all of them tell the same coefficients.

    Notes
    -----
    With Q the estimates, U their variances, W the mean of U and B the variance of Q between the m imputations, an estimate is the mean of Q and its
    variance W + (1 + 1/m)B, on the degrees of freedom of Barnard and Rubin (1999). Several coefficients are tested together by
    D = QᵀW⁻¹Q/(k(1 + r)), r = (1 + 1/m)tr(BW⁻¹)/k (Li, Raghunathan & Rubin 1991), on those of Reiter (2007).

    References
    ----------
    Rubin (1987), Multiple Imputation for Nonresponse in Surveys, doi:10.1002/9780470316696.
    Barnard & Rubin (1999), Biometrika 86(4), 948-955, doi:10.1093/biomet/86.4.948.
    Reiter (2007), Biometrika 94(2), 502-508, doi:10.1093/biomet/asm028.

    Examples
    --------
    >>> import markbase as mb
    >>> found = mb.fit_imputations(mb.demo.choir_imputed(), "belonging", ["age", "rehearsals"], "imputation")
    >>> found.coefficients[["term", "estimate", "se", "df"]].round(3)
              term  estimate     se       df
    0  (intercept)    39.218  3.834   95.691
    1          age     0.142  0.043  335.499
    2   rehearsals     0.685  0.218   70.614
    """
    study = as_study(study)
    if kind not in KINDS:
        raise MarkbaseError(f"There is no kind {kind!r} of regression.{near(str(kind), KINDS)}")
    outcomes = list(names_like(outcome, study.columns)) if imputation is None else _as_list(outcome)
    wanted = terms.chosen(study, outcomes[0]) if isinstance(terms, AllBut) else terms
    names = dict.fromkeys(n for term in wanted for n in degrees_of(read_term(term, study.columns)))
    study, bases = with_one_base(study, names)
    fit = fit_linear if kind == "linear" else fit_logistic
    if imputation is None:
        return _of_plausible_values(study, outcomes, wanted, bases, fit, settings)
    if len(outcomes) != 1:
        raise MarkbaseError(
            f"Imputations told by `{imputation}` have one outcome, not {listed(quoted(outcomes))}: name the one, or leave the imputations out where these are plausible values."
        )
    if imputation in (outcomes[0], *names):
        raise ColumnError(f"`{imputation}` numbers the imputations, and is no column of the model.")
    studies = _parted(study, study.column(imputation))
    _check_same_cases(imputation, studies)
    original = original_among(studies)
    before = studies.pop(original, None)
    fits: dict[str, AnyFit] = {}
    for label, own in studies.items():
        fits[label] = _fitted(own, outcomes[0], wanted, fit, settings, f"imputation `{label}`", quiet=bool(fits))
    columns = [outcomes[0], *(v.name for v in next(iter(fits.values())).variables)]
    imputed = what_differs(list(studies.values()), columns, original, before)
    return _checked(Imputations(imputation, fits, imputed, bases))


def _as_list(outcome: str | Sequence[str]) -> list[str]:
    return [outcome] if isinstance(outcome, str) else list(outcome)


def _check_same_cases(name: str, studies: Mapping[str, Study]) -> None:
    """Refuse what tells other rows apart than imputations of the same cases: these have about as many rows each."""
    rows = [own.rows for own in studies.values()]
    if min(rows) < _ALIKE * max(rows):
        raise ColumnError(
            f"`{name}` does not number imputations of the same cases: {min(rows):,} to {max(rows):,} rows have one of its {len(rows):,} values. Name the column that does; for other rows in "
            f"each of its levels the same model is one of subgroups."
        )


def _of_plausible_values(
    study: Study,
    outcomes: Sequence[str],
    terms: Sequence[TermRequest],
    bases: Mapping[str, str],
    fit: Callable[..., AnyFit],
    settings: Mapping[str, Any],
) -> Imputations:
    if len(set(outcomes)) < 2 or len(set(outcomes)) < len(outcomes):
        raise MarkbaseError(
            f"Name the column that numbers the imputations, or two plausible values or more as outcomes, each once, not {listed(quoted(outcomes))} alone."
        )
    fits: dict[str, AnyFit] = {}
    for name in outcomes:
        fits[name] = _fitted(study, name, terms, fit, settings, f"`{name}`", quiet=bool(fits))
    return _checked(Imputations("", fits, Imputed(study.rows, None), bases))


def _fitted(
    study: Study,
    outcome: str,
    terms: Sequence[TermRequest],
    fit: Callable[..., AnyFit],
    settings: Mapping[str, Any],
    where: str,
    *,
    quiet: bool,
) -> AnyFit:
    """Fit one; remarks of the first stand for all of them."""
    try:
        if not quiet:
            return fit(study, outcome, terms, **settings)
        with without_remarks():
            return fit(study, outcome, terms, **settings)
    except FitError as problem:
        raise FitError(f"In {where}: {problem}") from None


def _checked(found: Imputations) -> Imputations:
    """Refuse imputations that do not tell the same coefficients."""
    found.coefficients  # noqa: B018 - which says so
    return found


def _parted(study: Study, column: Column) -> dict[str, Study]:
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
