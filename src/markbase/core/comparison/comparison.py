"""Variants of a model side by side, on the same rows."""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import pandas as pd

from markbase.core.arguments import told_value
from markbase.core.comparison.several_analyses import of_the_same_rows, said_together
from markbase.core.design.terms import keys_of, variables_of
from markbase.core.display import ShownTables
from markbase.core.errors import FitError, MarkbaseError, listed, quoted
from markbase.core.results.changes import AnyFit, change_between
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.rows.row_functions import all_of
from markbase.core.tables import name_beside, rows_of

_MOST_APART = 3
"""So many pairs that no test compares are named."""


@dataclass(frozen=True, eq=False, repr=False)
class Comparison(ShownTables):
    """Fits side by side."""

    names: tuple[str, ...]
    """What the fits are called."""
    fits: tuple[AnyFit, ...]
    """The fits, all on the same rows."""
    rows: int
    """The rows they share."""
    refitted: tuple[str, ...]
    """Those that were fitted again, as they had rows that others lack."""
    same_outcome: bool
    """Whether all explain the same column, so that R² and criteria can be held against one another."""
    estimates: pd.DataFrame
    """`term`, `level`, `base`, then for each fit its estimate, called as the fit (a fit ``base`` as ``base (fit)``), and its standard error under ``se of …``."""
    strength: pd.DataFrame
    """One row a fit: `fit`, `terms`, `parameters`, and its figures; NaN where outcomes differ and figures would mislead."""
    tests: pd.DataFrame
    """For each pair of which one has all terms of the other: `smaller`, `larger`, `statistic`, `df`, `df_rest`, `p`, `test`."""
    cautions: tuple[str, ...]
    """What must be read with it."""


def compare(*fits: AnyFit | Mapping[str, AnyFit], names: Sequence[str] | None = None) -> Comparison:
    """Lay variants of a model side by side, on the rows they share.

    Parameters
    ----------
    *fits : LinearFit or LogisticFit, or one mapping of str to these
        Two fits or more, of one kind, of the same data; in a mapping by their names.
    names : sequence of str, optional
        What to call them; by default A, B, C, ….

    Returns
    -------
    Comparison
        Estimates, strength, and tests where one model holds all terms of another (a polynomial those of its straight line),
        with the same levels, errors and penalty; where these differ, `cautions` say so. Fits with rows that others lack are
        fitted again on the common rows, and that is said.

    Raises
    ------
    MarkbaseError
        If something is no fit with its rows, there are fewer than two, of two kinds, of other data, or with other weights; or names do not match.
    FitError
        If the common rows are too few.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> fit = mb.fit_linear(study, "belonging", ["age", "voice"])
    >>> longer = mb.fit_linear(study, "belonging", ["age", "voice", "rehearsals"])
    >>> mb.compare(fit, longer, names=["short", "long"]).tests["p"].lt(0.001).tolist()
    [True]
    """
    if len(fits) == 1 and isinstance(fits[0], Mapping):
        return compare(*fits[0].values(), names=list(fits[0]) if names is None else names)
    for given in fits:
        if not isinstance(given, (LinearFit, LogisticFit)):
            raise MarkbaseError(f"Fits with their rows are compared, and {told_value(given)} is none.")
    return _compared([f for f in fits if not isinstance(f, Mapping)], names)


def _compared(fits: Sequence[AnyFit], names: Sequence[str] | None) -> Comparison:
    if len(fits) < 2:
        raise MarkbaseError("Give two fits or more to compare.")
    if len({type(f) for f in fits}) > 1:
        raise MarkbaseError(
            "A linear and a logistic fit explain different things (a numeric column, and the odds of an event); compare fits of one kind."
        )
    if not all(of_the_same_rows(fits[0], f) for f in fits[1:]):
        raise MarkbaseError(
            "The fits are of different data; compare fits of one study. `fit_subgroups` fits a model in each level of a "
            "group, and tests whether its coefficients differ."
        )
    if len({f.weights.column if f.weights else "" for f in fits}) > 1:
        raise MarkbaseError("The fits are weighted differently; fit all with the same weights first.")
    called = tuple(names) if names is not None else tuple("ABCDEFGHIJKLMNOPQRSTUVWXYZ"[: len(fits)])
    if len(called) != len(fits) or len(set(called)) < len(called):
        raise MarkbaseError(f"{len(fits)} fits need as many different names, not {listed(quoted(called))}.")
    masks = [fit.used for fit in fits if fit.used is not None]
    common = all_of(masks) if masks else np.ones(0, dtype=bool)
    count = int(np.count_nonzero(common)) if masks else fits[0].sample.rows
    if not count:
        raise FitError("The fits share no row, so there is nothing to compare them on.")
    again = tuple(n for n, f in zip(called, fits, strict=True) if f.sample.used > count)
    same_rows = tuple(f if f.sample.used == count else f.on_rows(common) for f in fits)
    outcomes = {f.explained for f in fits}
    one = len(outcomes) == 1
    cautions = []
    if again:
        cautions.append(
            f"{listed(quoted(again))} {'was' if len(again) == 1 else 'were'} fitted again on the {count:,} rows that all fits share, so figures "
            f"differ from {'its' if len(again) == 1 else 'their'} own page."
        )
    if not one:
        cautions += [_outcomes_differ(same_rows), *said_together(list(zip(called, same_rows, strict=True)))]
    tests = _tests(called, same_rows) if one else []
    if one:
        cautions += _untested(called, same_rows, bool(tests))
    cautions += filter(None, [about_criteria(fits)])
    if one and any(_penalty(f) for f in fits):
        cautions.append(
            "A penalised fit does not make the likelihood as large as it can be, so its AIC and BIC are somewhat too large."
        )
    columns = ["smaller", "larger", "statistic", "df", "df_rest", "p", "test"]
    return Comparison(
        called,
        same_rows,
        count,
        again,
        one,
        _estimates_of(called, same_rows),
        _strength(called, same_rows, one),
        pd.DataFrame(tests, columns=columns),
        tuple(cautions),
    )


def _outcomes_differ(fits: Sequence[AnyFit]) -> str:
    names = listed(quoted(dict.fromkeys(f.explained for f in fits)))
    related = any(
        a.outcome.made is not None and b.outcome.name in a.outcome.made.of for a, b in itertools.permutations(fits, 2)
    )
    why = "one is made of the other" if related else "they are different things"
    return (
        f"The fits explain {names} ({why}): R² is a share of a different variance in each, AIC, BIC and residual standard deviations are of different outcomes, so none is shown side by "
        f"side. What "
        f"can be compared is direction and evidence of the same term, and predictions taken back to one unit."
    )


def _estimates_of(names: Sequence[str], fits: Sequence[AnyFit]) -> pd.DataFrame:
    tables = [{(row.term, row.level): row for row in rows_of(f.coefficients)} for f in fits]
    records = []
    for term, level in dict.fromkeys(key for table in tables for key in table):
        rows = [table.get((term, level)) for table in tables]
        record = {"term": term, "level": level, "base": next(row for row in rows if row).base}
        for name, row in zip(names, rows, strict=True):
            record[name_beside(("term", "level", "base"), name, "fit")] = row.estimate if row else math.nan
            record[f"se of {name}"] = row.se if row else math.nan
        records.append(record)
    return pd.DataFrame(records)


def _strength(names: Sequence[str], fits: Sequence[AnyFit], one: bool) -> pd.DataFrame:
    records = []
    for name, fit in zip(names, fits, strict=True):
        s = fit.strength
        figures = {k: getattr(s, k) if one else math.nan for k in fit.family.compared}
        records.append(
            {
                "fit": name,
                "terms": len(fit.model_terms),
                "parameters": len(fit.solution.columns) + 1,
                "used": fit.sample.used,
                **figures,
            }
        )
    return pd.DataFrame(records)


def _nested(names: Sequence[str], fits: Sequence[AnyFit]) -> Iterator[tuple[tuple[str, AnyFit], tuple[str, AnyFit]]]:
    """Yield every pair of which the second has all terms of the first and more, each with its name."""
    for first, second in itertools.permutations(zip(names, fits, strict=True), 2):
        if keys_of(first[1].model_terms) < keys_of(second[1].model_terms):
            yield first, second


def _tests(names: Sequence[str], fits: Sequence[AnyFit]) -> list[list[object]]:
    found: list[list[object]] = []
    for (a, first), (b, second) in _nested(names, fits):
        if not _unlike(first, second):
            change = change_between(first, second)
            found.append([a, b, change.statistic, change.df, change.df_rest, change.p, change.kind])
    return found


def _untested(names: Sequence[str], fits: Sequence[AnyFit], tested: bool) -> list[str]:
    """Say which pairs are not tested though one has all terms of the other; and what compares those of which none has."""
    told = [
        f"`{b}` holds all terms of `{a}`, but no test compares them: {unlike}."
        for (a, first), (b, second) in _nested(names, fits)
        if (unlike := _unlike(first, second))
    ]
    way = "AIC and BIC do (smaller is better; a difference below 2 is next to nothing)."
    if not told and not tested:
        return [f"No model here holds all terms of another and more, so no test compares them: {way}"]
    terms = {name: keys_of(fit.model_terms) for name, fit in zip(names, fits, strict=True)}
    apart = [(a, b) for a, b in itertools.combinations(names, 2) if terms[a] - terms[b] and terms[b] - terms[a]]
    if apart:
        pairs = [f"`{a}` with `{b}`" for a, b in apart[:_MOST_APART]]
        pairs += [f"{len(apart) - _MOST_APART} more pairs"] if len(apart) > _MOST_APART else []
        told.append(f"No test compares {listed(pairs)}: neither holds all terms of the other. {way}")
    return told


def _unlike(first: AnyFit, second: AnyFit) -> str:
    """Say why no test compares two fits of which the second has all terms of the first; empty where one does."""
    own = variables_of(second.model_terms)
    for name, variable in variables_of(first.model_terms).items():
        if _levels(variable.column) != _levels(own[name].column):
            return f"the levels of `{name}` are not the same in both"
    if first.fixed_effect_names != second.fixed_effect_names:
        return "the levels taken out are not the same in both"
    if _penalty(first) != _penalty(second):
        return "one of them is penalised"
    rest = [_errors_words(f) for f in (first, second)]
    if rest[0] != rest[1]:
        return f"their errors are not of one kind ({rest[0]} and {rest[1]}); fit both with the same"
    return ""


def _errors_words(fit: AnyFit) -> str:
    e = fit.errors
    by = f" by {listed(quoted([kind.name for kind in e.by]))}" if e.by else ""
    return f"{e.kind}{by}{f' within `{e.strata}`' if e.strata else ''}{f' by `{e.time}`' if e.time else ''}"


def about_criteria(fits: Sequence[AnyFit]) -> str:
    """Say what AIC and BIC take for granted and the errors do not; empty where both take the same."""
    weighted = any(f.weights is not None and f.weights.kind == "sampling" for f in fits)
    if not weighted and all(f.errors.middle is None for f in fits):
        return ""
    rows = "rows as independent, each as so many as its weight says," if weighted else "rows as independent"
    return f"AIC and BIC take {rows} and the form of the model as right, whatever the errors rest on."


def _penalty(fit: AnyFit) -> str:
    return fit.penalty if isinstance(fit, LogisticFit) else ""


def _levels(column) -> list[str]:  # type: ignore[no-untyped-def]
    return [v.label for v in column.levels]
