"""What the combined fits of several imputations say, in words."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Protocol

import pandas as pd

from markbase.core.comparison.imputed_rows import Imputed
from markbase.core.design.terms import Term
from markbase.core.errors import count_noun, listed, quoted
from markbase.core.formatting import as_percent, figures_of, number, p_phrase
from markbase.core.reading.averages import Numbers, averages_of, within_others
from markbase.core.reading.clauses import clear, held_equal, outcome_words, points_words, said_of_clear, size, step_lead
from markbase.core.reading.group_cautions import beside_joint, levels_told, none_compared
from markbase.core.reading.interaction_sentences import sources_in, what_differs
from markbase.core.reading.logistic_sentences import odds_sentence
from markbase.core.reading.slope_sentences import at_reference
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.coefficient_rows import label_of
from markbase.core.results.fit_statistics import OverallTest
from markbase.core.results.logistic import LogisticFit
from markbase.core.results.statements import Reading, Statement
from markbase.core.tables import TableRow, records_of

_MOST_LEVELS = 12
"""Of groups of more levels the joint test alone is told in words."""
_MOST_NAMED, _MOST_TOLD, _MOST_AVERAGED = 5, 4, 2
"""So many terms are named, or told, or told as averages, where the answers stand."""
_NOTHING = 1e-9
_FEW_ROWS = 0.05
"""A share of rows whose outcome was imputed from which on it is told."""


class CombinedFits(Numbers, Protocol):
    """Fits of several imputations, or plausible values, combined."""

    @property
    def by(self) -> str:
        """The column that numbers the imputations; empty for plausible values."""
        ...

    @property
    def fits(self) -> Mapping[str, AnyFit]:
        """The single fits."""
        ...

    @property
    def fit(self) -> AnyFit:
        """The first of them."""
        ...

    @property
    def imputed(self) -> Imputed:
        """What differs between the imputations."""
        ...

    @property
    def bases(self) -> Mapping[str, str]:
        """The bases that nobody chose."""
        ...

    @property
    def level(self) -> float:
        """Confidence level of the intervals."""
        ...

    @property
    def untested(self) -> Mapping[str, str]:
        """The terms that have no joint test, each with the reason."""
        ...

    @property
    def overall(self) -> OverallTest:
        """The test of all terms together."""
        ...

    @property
    def coefficients(self) -> pd.DataFrame:
        """The combined coefficients."""
        ...

    def reading(self) -> Reading:
        """Return what they say, in sentences."""
        ...


def make_imputation_reading(found: CombinedFits) -> Reading:
    """Say what the combined coefficients mean, and what must be known of how they were combined."""
    table, tests = found.coefficients, {row["term"]: row for row in records_of(found.terms)}
    effects = {(row["term"], row["level"]): row for row in records_of(found.marginal)}
    statements: list[Statement] = []
    for term in found.fit.model_terms:
        rows = table[table["term"] == term.name]
        if term.kind == "numeric":
            statements += _numeric(found, term, records_of(rows)[0], effects)
        else:
            statements.append(_jointly(found, term, rows, tests[term.name]))
        if term.is_categorical and term.kind == "categorical" and len(rows) <= _MOST_LEVELS:
            statements += [
                _compared(found, term, row, effects)
                for row in records_of(rows)
                if not row["base"] and not pd.isna(row["p"])
            ]
    told = said_of_all(found)
    if found.fit.family.ratios:
        told.insert(
            -1,
            "Odds are not probabilities: odds twice as high are not a probability twice as high, which is why both are told.",
        )
    return Reading(tuple(statements), (*told, *said_of_clear(found.fit)))


def imputation_answers(found: CombinedFits) -> tuple[Statement, ...]:
    """Answer the question of an analysis over imputations in a few sentences: whether the terms tell anything, the clearest of them, and which are not clear."""
    test, outcome = found.overall, f"`{found.fit.outcome.name}`"
    names, what = [t.name for t in found.fit.model_terms], "imputations" if found.by else "plausible values"
    who = listed(quoted(names)) if len(names) <= _MOST_NAMED else f"The {len(names)} terms"
    if math.isnan(test.p):
        return (Statement("", "", f"Whether the terms tell anything about {outcome} is not tested: {test.untested}."),)
    sure = test.p < found.fit.alpha
    figures = f"{figures_of(test.statistic, test.df, test.df_rest, 'Wald')}, {p_phrase(test.p)}"
    verb = f"tell{'s' if len(names) == 1 else ''}{' together' if len(names) > 1 else ''}"
    first = (
        f"{who} {verb} something about {outcome}, combined over {len(found.fits)} {what} ({figures})."
        if sure
        else f"Combined over {len(found.fits)} {what} there is no clear evidence that {who} {verb} anything about {outcome} ({figures})."
    )
    p, averages = {row["term"]: float(row["p"]) for row in records_of(found.terms)}, averages_of(found.fit, found)
    held, averaged = within_others(found.fit), [a.name for a in averages]
    clear = sorted(
        (name for name in names if p[name] < found.fit.alpha and name not in averaged), key=lambda name: p[name]
    )
    told = [
        s
        for name in clear
        for s in found.reading().statements
        if s.term == name and not s.level and not (name in held and s.cautions)
    ]
    told = [*told[: _MOST_TOLD - min(len(averages), _MOST_AVERAGED)], *(a.statement for a in averages[:_MOST_AVERAGED])]
    unclear = [name for name in names if p[name] >= found.fit.alpha and name not in held]
    if unclear:
        named = listed(quoted(unclear)) if len(unclear) <= _MOST_NAMED else f"{len(unclear)} of the {len(names)} terms"
        text = f"For {named} nothing is clear here, which is no evidence that nothing is there."
        told.append(Statement("", "", text))
    return (Statement("", "", first), *told)


def _numeric(
    found: CombinedFits, term: Term, row: TableRow, effects: Mapping[tuple[str, str], TableRow]
) -> list[Statement]:
    fit = found.fit
    if pd.isna(row["p"]) or sources_in(fit, term.column) or fit.moves_with(term.name):
        return []  # by itself it says nothing: other terms move with it
    at, cautions = at_reference(fit, term.name)
    lead, question = step_lead(term.column, at)
    if not isinstance(fit, LogisticFit):
        text = f"{lead} {outcome_words(fit.outcome)} is {size(fit, row, question)}"
    else:
        text = f"{odds_sentence(fit, lead, row, question)}.{_in_probability(found, effects.get((term.name, '')), at)}"
    return [Statement(term.name, "", text, tuple(cautions))]


def _compared(found: CombinedFits, term: Term, row: TableRow, effects: Mapping[tuple[str, str], TableRow]) -> Statement:
    fit, level = found.fit, str(row["level"])
    if term.column.scheme == "trend":
        verb = "clear evidence" if clear(fit, row) else "no clear evidence"
        return Statement(
            term.name, level, f"Over the order of `{term.name}` there is {verb} of a {level} ({p_phrase(row['p'])})."
        )
    against = {
        "indicator": f"compared with the base `{row['against']}`",
        "effect": f"compared with the mean of the {len(term.labels)} levels, each counted once",
        "adjacent": f"compared with the level before it, `{row['against']}`",
    }[term.column.scheme]
    at = at_reference(fit, term.name)[0]
    lead = f"For `{term.name}` `{level}`, {against}{at},"
    if not isinstance(fit, LogisticFit):
        text = f"{lead} {outcome_words(fit.outcome)} is {size(fit, row, 'of a difference')}"
    else:
        own = effects.get((term.name, level)) if term.column.scheme == "indicator" else None
        text = f"{odds_sentence(fit, lead, row, 'of a difference')}.{_in_probability(found, own, at)}"
    return Statement(term.name, level, text)


def _in_probability(found: CombinedFits, effect: TableRow | None, at: str) -> str:
    """Say the same as a difference of probabilities, averaged over the rows; empty where there is none."""
    if effect is None or pd.isna(effect["se"]):
        return ""
    told, ends = points_words(*(float(effect[k]) for k in ("effect", "low", "high", "se")))
    where = f", not only{at}" if at else ""
    return f" Averaged over the rows{where}, the probability is {told} ({100 * found.level:g}% CI {ends})."


def _jointly(found: CombinedFits, term: Term, rows: pd.DataFrame, test: TableRow) -> Statement:
    fit, cautions = found.fit, []
    if term.name in found.bases:
        cautions.append(
            f"The base `{found.bases[term.name]}` was not chosen: it is the largest level of all rows. Mark the one your question needs."
        )
    at, outside = at_reference(fit, *term.names)
    cautions += outside
    if math.isnan(test["p"]):
        return Statement(
            term.name, "", f"`{term.name}` is not tested as a whole: {found.untested[term.name]}.", tuple(cautions)
        )
    sure = bool(test["p"] < fit.alpha)
    figures = f"{figures_of(test['statistic'], test['df'], test['df_rest'], 'Wald')}, {p_phrase(test['p'])}"
    scale = " in log odds" if fit.family.ratios else ""
    beside = beside_joint(sure, rows, fit.alpha) if term.kind == "categorical" else []
    if term.kind == "interaction":
        told = what_differs(term, sure, scale)
    elif term.kind == "polynomial":
        goes = f"{'the log odds' if scale else f'`{fit.outcome.name}`'} {'go' if scale else 'goes'} with `{term.names[0]}`, its curve included"
        told = goes[0].upper() + goes[1:] if sure else f"No clear evidence that {goes}"
    elif none_compared(rows):
        told = f"No level of `{term.name}` can be compared with its base"
    else:
        of = (
            f"the odds of `{fit.outcome.name}` = `{fit.event}`"
            if isinstance(fit, LogisticFit)
            else f"`{fit.outcome.name}`"
        )
        verb = "differ" if sure else "show no clear evidence of differing"
        told = f"Taken together, {levels_told(term, rows)} {verb} in {of}"
    return Statement(term.name, "", f"{told}{at} ({figures}), {held_equal(fit)}.", (*cautions, *beside))


def said_of_all(found: CombinedFits) -> list[str]:
    """Say what must be known of how they were combined, and of associations."""
    fit, m = found.fit, len(found.fits)
    told = _on_information(found)
    if found.by:
        beyond = [t.name for t in fit.model_terms if t.kind in ("interaction", "polynomial")]
        terms = f", {listed(quoted(beyond))} as well" if beyond else ""
        told.append(
            f"All of it rests on how the gaps were filled: where that model lacked the outcome or a term of this one{terms}, coefficients are drawn towards 0, and where values are "
            "missing for reasons that no column tells, nothing here allows for it."
        )
        if found.imputed.all_differ:
            told.insert(
                0,
                f"Every column of the model differs between the values of `{found.by}` in nearly all rows: are they imputations of the same cases, and not other rows, such as waves or places? "
                "Of other rows nothing here holds.",
            )
        own = (found.imputed.columns or {}).get(fit.outcome.name, 0)
        if own >= _FEW_ROWS * found.imputed.rows:
            told.append(
                f"In {count_noun(own, 'row')} the outcome itself is imputed: these rows tell about the model that filled it, not about the terms (von Hippel 2007)."
            )
    else:
        told.append(
            f"The {m} outcomes are taken as plausible values: draws of what one measurement leaves open, not {m} measurements. Each alone gives errors that are too small, and their "
            "mean per person is no such draw."
        )
    told.append(
        "These are associations in the rows used; a coefficient does not say what would happen if a value were changed."
    )
    return told


def _on_information(found: CombinedFits) -> list[str]:
    """Say how much the imputations differ, and whether they are enough."""
    rows = [r for r in records_of(found.coefficients) if not r["base"] and not math.isnan(r["missing_information"])]
    if not rows:
        return []
    m, most = len(found.fits), max(rows, key=lambda r: r["missing_information"])
    share = float(most["missing_information"])
    moved = max((r for r in rows if r["se"] > 0), key=lambda r: r["simulation_error"] / r["se"])
    if not moved["simulation_error"] > _NOTHING * moved["se"]:
        return []  # they are all the same
    name, other = (f"`{label_of(r['term'], r['level'])}`" for r in (most, moved))
    what, known = ("imputations", "without gaps") if found.by else ("plausible values", "with the outcome known")
    where = f" of {other}" if other != name else ""
    told = (
        f"Most information is missing on {name}: {as_percent(share)} of what the rows would tell of it {known} is lost. With {m} other {what} its estimate"
        f"{'' if not where else f', or that{where},'} would differ by chance by about {number(moved['simulation_error'] / moved['se'], 2)} of its standard error."
    )
    wanted = math.ceil(100 * share)
    if found.by and wanted > m:
        told += f" For results that another run repeats, a rule of thumb is as many imputations as percent of information are missing ({wanted}; White, Royston & Wood 2011)."
    return [told]
