"""What columns within interactions go with on average over the rows, where no interaction of theirs is clear."""

from __future__ import annotations

import itertools
import math
from typing import Any, NamedTuple, Protocol

import pandas as pd

from markbase.core.design.terms import Variable
from markbase.core.errors import FitError
from markbase.core.formatting import figures_of, p_phrase
from markbase.core.reading.clauses import held_equal, interval_words, outcome_words, points_words, size, step_lead
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.fit_statistics import OverallTest
from markbase.core.results.logistic import LogisticFit
from markbase.core.results.statements import Statement
from markbase.core.tables import records_of, rows_of


class Average(NamedTuple):
    """What a column within interactions goes with on average."""

    name: str
    """Of the column."""
    p: float
    """Of the test that it goes with nothing on average."""
    text: str
    """The sentence."""

    @property
    def statement(self) -> Statement:
        """It as a sentence of its own."""
        return Statement("", "", self.text)


class Numbers(Protocol):
    """What averages are read from: a fit, or those of several imputations, combined."""

    @property
    def terms(self) -> pd.DataFrame:
        """The joint test of each term."""
        ...

    @property
    def marginal(self) -> pd.DataFrame:
        """Average marginal effects of logistic fits."""
        ...

    def _judged(self, term: str, p: float) -> float: ...

    def not_averaged(self, group: str) -> str:
        """Say why the levels of a group cannot be averaged over others; empty where they can."""
        ...

    def group_test(self, group: str) -> OverallTest:
        """Test the differences between the levels of a group, averaged over the rows."""
        ...

    def simple_slopes(self, numeric: str) -> pd.DataFrame:
        """Tell the slope of a numeric column, averaged over the rows."""
        ...


def averages_of(fit: AnyFit, numbers: Numbers | None = None) -> list[Average]:
    """Tell columns within interactions none of which is clear as they are on average, the clearest first; where one is clear, that is told instead.

    Where `numbers` are given they are taken from these, and from the fit only what is the same in all imputations.
    """
    source: Any = fit if numbers is None else numbers
    p = {str(r.term): source._judged(r.term, float(r.p)) for r in rows_of(source.terms)}
    found = []
    for variable in fit.variables:
        larger = [t.name for t in fit.model_terms if variable.name in t.names and len(t.names) > 1]
        if not larger or not all(p.get(name, 0.0) >= fit.alpha for name in larger):
            continue
        average = (_average_of_group if variable.is_categorical else _average_of_slope)(fit, variable, source)
        if average is not None and not math.isnan(average.p):
            found.append(average)
    return sorted(found, key=lambda average: average.p)


def _average_of_group(fit: AnyFit, group: Variable, source: Numbers) -> Average | None:
    """Say whether the levels of a group differ on average; None where that would run over combinations that no row has."""
    if source.not_averaged(group.name):
        return None
    test = source.group_test(group.name)
    evidence = "" if test.p < fit.alpha else "there is no clear evidence that "
    outcome = f"the {fit.family.coefficient} of `{fit.outcome.name}`" if fit.family.ratios else f"`{fit.outcome.name}`"
    what = f"the {group.size} levels of `{group.name}` differ in {outcome}"
    return Average(group.name, test.p, f"Averaged over these rows, {evidence}{what} ({overall_figures(test)}).")


def _average_of_slope(fit: AnyFit, numeric: Variable, source: Numbers) -> Average | None:
    """Say how steep the slope of a numeric column is on average; None of a curve, and of what moves along with others."""
    others = itertools.chain(*(fit.moves_with(v.name) for v in fit.variables if not v.is_categorical))
    if numeric.name in (*fit.slope_depends_on(numeric.name), *others) or fit.moves_with(numeric.name):
        return None
    lead, question = step_lead(numeric.column, "")
    lead = f"Averaged over these rows, {lead[0].lower()}{lead[1:]}"
    if isinstance(fit, LogisticFit):
        effect = records_of(source.marginal[source.marginal["term"] == numeric.name])[0]
        points, ends = points_words(*(float(effect[key]) for key in ("effect", "low", "high", "se")))
        p, figures = float(effect["p"]), interval_words(fit, effect, ends)
        verb, rest = (
            ("is", "") if p < fit.alpha else ("is estimated", f": no clear evidence {question}, in either direction")
        )
        event = f"the probability of `{fit.outcome.name}` = `{fit.event}`"
        return Average(numeric.name, p, f"{lead} {event} {verb} {points} ({figures}), {held_equal(fit)}{rest}.")
    try:
        slope = source.simple_slopes(numeric.name).iloc[0]
    except FitError:  # it would run over a combination of levels that no row has
        return None
    row = {"estimate": slope["slope"], **{key: slope[key] for key in ("se", "low", "high", "p")}}
    return Average(
        numeric.name, float(slope["p"]), f"{lead} {outcome_words(fit.outcome)} is {size(fit, row, question)}"
    )


def within_others(fit: AnyFit) -> set[str]:
    """Return the names of the terms that are part of an interaction."""
    return {t.name for t in fit.model_terms if any(set(t.names) < set(o.names) for o in fit.model_terms)}


def tests_of(fit: AnyFit) -> dict[str, float]:
    """Return the p by which each term is judged, but for those that are part of an interaction: they hold at one value of the others."""
    within = within_others(fit)
    return {str(r.term): fit._judged(r.term, float(r.p)) for r in rows_of(fit.terms) if r.term not in within}


def overall_figures(test: OverallTest) -> str:
    """Write a test: its statistic with its degrees of freedom, and p."""
    return f"{figures_of(test.statistic, test.df, test.df_rest, test.kind)}, {p_phrase(test.p)}"
