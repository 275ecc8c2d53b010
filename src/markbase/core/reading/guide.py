"""A short guided list: the questions to put to a fit, in order, answered with its own numbers."""

from __future__ import annotations

import math
from typing import Any

from markbase.core.errors import count_noun, listed, named, quoted
from markbase.core.formatting import (
    as_percent,
    decimals_for,
    figures_of,
    number,
    p_phrase,
    points,
    ratio,
    share,
    short,
    without_zero,
)
from markbase.core.reading.averages import averages_of, within_others
from markbase.core.reading.clauses import overstated_words, percent, unit_of
from markbase.core.reading.many_terms import among_many
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.results.statements import Guide, Step
from markbase.core.tables import rows_of

_WEAK = 0.02


_MOST_NAMED = 12
"""Terms that are named as clear, or as not clear."""


def make_guide(fit: AnyFit) -> Guide:
    """Go through a fit in the order in which it should be read: six questions, each answered in numbers and what they mean."""
    steps = [_rows(fit), _whether(fit), _how_much(fit), _which_terms(fit), *_groups(fit), _bounds(fit)]
    return Guide(tuple(steps))


def _rows(fit: AnyFit) -> Step:
    sample = fit.sample
    lost = sample.rows - sample.used
    meaning = (
        "Every row took part." if not lost else "What follows is about these rows; the others lack a value somewhere."
    )
    if lost > 0.1 * sample.rows:
        worst = max(sample.losses, key=lambda loss: loss.rows)
        meaning = f"More than a tenth is lost, most of it to `{worst.column}` ({worst.reason}): are the rows left still those you mean?"
    by = f", which count by {fit.weighting.short}" if fit.weighting else ""
    return Step(
        "Which rows?",
        f"{sample.used:,} of {count_noun(sample.rows, 'row')} ({share(sample.used, sample.rows)}){by}",
        meaning,
    )


def _whether(fit: AnyFit) -> Step:
    test = fit.overall
    answer = f"{figures_of(test.statistic, test.df, test.df_rest, test.kind)}, {p_phrase(test.p)}"
    if math.isnan(test.p):
        return Step("Does the model say anything?", "not tested", f"{test.untested[0].upper()}{test.untested[1:]}.")
    clear = fit._judged("", test.p) < fit.alpha
    answer += f"; {overstated}" if (overstated := overstated_words(fit, fit._overstated.get(""))) else ""
    meaning = (
        "Together the terms tell something; go on to how much."
        if clear
        else "No clear evidence that the terms together tell anything: read what follows as description, and beware of a single clear row."
    )
    return Step("Does the model say anything?", answer, meaning)


def _how_much(fit: AnyFit) -> Step:
    if isinstance(fit, LogisticFit):
        s = fit.strength
        answer = f"McFadden {without_zero(s.mcfadden)}, Tjur {without_zero(s.tjur)}"
        meaning = (
            f"Where `{fit.event}` happened, the model gave it a probability {points(s.tjur)} percentage points higher on average than "
            f"where it did not. {'That is little: single people are hardly told apart.' if s.tjur < 0.1 else 'See `classification` for how well single people are told apart.'}"
        )
        return Step("How much?", answer, meaning)
    assert isinstance(fit, LinearFit)
    linear = fit.strength
    decimals = decimals_for(fit.outcome_sd, 3)
    unit = unit_of(fit, 2.0)
    answer = f"R² {without_zero(linear.r2)}; residual standard deviation {number(linear.residual_sd, decimals)} {unit}"
    saved = 1 - linear.residual_sd / fit.outcome_sd
    brought = f"brings it down by {as_percent(saved)}" if saved > 0 else "does not bring it down"
    meaning = f"Without any term the residual standard deviation is {number(fit.outcome_sd, decimals)} {unit}: the model {brought}."
    told = linear.r2
    if fit.fixed_effect_names:
        levels = f"the levels of {listed(quoted(fit.fixed_effect_names))}"
        told = float(linear.r2_within or 0.0)
        answer += f"; R² within {without_zero(told)}"
        meaning = (
            f"{meaning[:-1]}, {levels} counted in. Within them the terms explain {as_percent(told)} of what varies."
        )
    if told < _WEAK:
        meaning += " That is very little, however small p is."
    return Step("How much?", answer, meaning)


def _which_terms(fit: AnyFit) -> Step:
    averaged = {a.name: a.p for a in averages_of(fit)}
    inner = [t for t in within_others(fit) if t not in averaged]
    tests = {
        str(r.term): averaged.get(r.term, fit._judged(r.term, r.p)) for r in rows_of(fit.terms) if r.term not in inner
    }
    clear = [term for term, p in tests.items() if p < fit.alpha]
    untested = [term for term, p in tests.items() if math.isnan(p)]
    other = [term for term in tests if term not in (*clear, *untested)]
    answer = f"clear: {named(clear, _MOST_NAMED) or 'none'}; not clear: {named(other, _MOST_NAMED) or 'none'}"
    answer += f"; not tested: {named(untested, _MOST_NAMED)}" if untested else ""
    meaning = (
        "Each is tested with all the others in the model; a term that is not clear has not been shown to do nothing."
    )
    if some := [term for term in tests if term in averaged]:
        meaning += f" {listed(quoted(some))}, in an interaction that is not clear, {'is' if len(some) == 1 else 'are'} tested as averaged over the rows."
    if some := [str(r.term) for r in rows_of(fit.terms) if r.term in inner]:
        meaning += f" What {listed(quoted(some))} {'goes' if len(some) == 1 else 'go'} with depends on other columns: read the interaction, its slopes or its combinations."
    return Step("Which terms?", answer, " ".join([meaning, *among_many(fit)]))


def _groups(fit: AnyFit) -> list[Step]:
    steps = []
    for term in fit.model_terms:
        if not term.is_categorical:
            continue
        if reason := fit.not_averaged(term.name):
            steps.append(Step(f"Which groups? `{term.name}`", "not averaged over the others", reason))
            continue
        table = fit.groups(term.name)
        others = table[~table["base"]]
        together = fit.corrected_p(others["p"].tolist())
        untested = others["p"].isna().all()
        clear = [str(v) for v, p in zip(others["level"], together, strict=True) if p < fit.alpha]
        far = others.iloc[int(others["difference"].abs().argmax())]
        differing = any(term.name in t.names for t in fit.model_terms if len(t.names) > 1)
        over = ", on average over the rows," if differing else ""
        answer = f"base `{term.base_label}`; furthest from it{over} `{far['level']}`: {_difference(fit, far)}"
        if clear:
            meaning = f"Clear among all comparisons with the base (Holm): {listed(quoted(clear))}."
        elif untested:
            meaning = "Without standard errors no comparison with the base can be tested."
        else:
            meaning = "No comparison with the base is clear once all of them are taken together (Holm)."
        if len(table) > 2:
            meaning += " Every pair of levels can be compared as well."
        steps.append(Step(f"Which groups? `{term.name}`", answer, meaning))
    return steps


def _difference(fit: AnyFit, row: Any) -> str:
    low, high, value = float(row["low"]), float(row["high"]), float(row["difference"])
    logistic = isinstance(fit, LogisticFit)
    if math.isnan(low):
        size = f"{short(100 * value)} percentage points" if logistic else f"{short(value)} {unit_of(fit, value)}"
        return f"{size}, with no standard error"
    if logistic:
        decimals = max(1, decimals_for(25 * (high - low), 1))
        figures = [number(100 * v, decimals) for v in (value, low, high)]
        return f"{figures[0]} percentage points ({percent(fit)} CI {figures[1]} to {figures[2]}), odds ratio {ratio(float(row['odds_ratio']))}"
    decimals = decimals_for(float(row["se"]) or 1.0)
    figures = [number(v, decimals) for v in (value, low, high)]
    return f"{figures[0]} {unit_of(fit, value)} ({percent(fit)} CI {figures[1]} to {figures[2]})"


def _bounds(fit: AnyFit) -> Step:
    reading = fit.reading()
    cautions = sum(len(s.cautions) for s in reading.statements)
    answer = f"{count_noun(cautions, 'caution')} in the reading"
    meaning = "These are associations in the rows used, with the other terms held equal; they do not say what would happen if a value were changed."
    if isinstance(fit, LogisticFit):
        meaning += " Odds are not probabilities; write both."
    return Step("What must be said with it?", answer, meaning)
