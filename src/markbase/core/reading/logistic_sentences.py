"""One sentence a coefficient of a logistic model: the event, odds as odds, and probability as probability."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import replace

import pandas as pd

from markbase.core.design.coefficient_map import Coefficient
from markbase.core.design.term_remarks import cut_from_terms
from markbase.core.design.terms import Term
from markbase.core.errors import count_noun
from markbase.core.formatting import (
    as_percent,
    decimals_for,
    number,
    ratio,
    ratio_with_ends,
    short,
)
from markbase.core.reading.case_cautions import about_case, about_case_elsewhere
from markbase.core.reading.cell_cautions import about_rows, no_start, not_estimated
from markbase.core.reading.clauses import (
    clear,
    held_equal,
    interval_words,
    joint_figures,
    percent,
    points_words,
    said_of_clear,
    say_once,
    step_lead,
    twice_as_large,
    without_errors,
)
from markbase.core.reading.group_cautions import (
    EQUAL_STEPS,
    GroupFacts,
    about_clusters,
    about_codes,
    about_few,
    about_group,
    about_levels,
    about_step,
    beside_joint,
    beside_overall,
    levels_told,
    none_compared,
    one_verdict,
    trend_step,
    unnamed_levels,
)
from markbase.core.reading.interaction_sentences import (
    IN_INTERACTIONS,
    contrast_words,
    follower_sentence,
    followers_sentence,
    partly_derived,
    sources_in,
    start_words,
    told_rows,
    what_differs,
)
from markbase.core.reading.line_cautions import about_line
from markbase.core.reading.many_rows import few_told
from markbase.core.reading.many_terms import among_many
from markbase.core.reading.outcome_cautions import from_sources
from markbase.core.reading.overlap_words import about_held, about_overlap
from markbase.core.reading.slope_sentences import (
    at_reference,
    bend_sentence,
    curve_statements,
    no_slope,
    slope_statements,
)
from markbase.core.reading.term_cautions import beside_terms
from markbase.core.results.logistic import LogisticFit
from markbase.core.results.statements import Reading, Statement
from markbase.core.tables import TableRow, records_of

_TIMES, _FEW = 2.0, 0.005
_WIDE = 10.0
_RARE = 0.05
_SPARSE = 5


def make_odds_reading(fit: LogisticFit) -> Reading:
    """Say what each coefficient of a logistic fit means, and no more, in odds and in probability.

    A statement for the intercept, for each numeric column, for each group as a whole and for each of its coefficients but the base.
    """
    table = fit.coefficients
    marginal = {(row["term"], row["level"]): row for row in records_of(fit.marginal)}
    statements = [_start(fit, records_of(table.head(1))[0])]
    for term in fit.model_terms:
        rows = table[table["term"] == term.name]
        told_of = records_of(rows)
        few, beside = few_told(fit, term, rows)
        if term.is_categorical and not few:
            continue
        if term.kind == "interaction":
            pairs = zip(told_rows(fit, term), told_of, strict=True)
            single = [_product(fit, term, told, row) for told, row in pairs if not row["base"] and row["level"] in few]
            if len(single) == 1:
                outside = at_reference(fit, *term.names)[1]
                statements.append(replace(single[0], cautions=(*outside, *single[0].cautions)))
            else:
                statements += [_jointly(fit, term, rows).with_caution(*beside), *single]
            if len(term.numerics) == 2 and not term.groups:
                statements += slope_statements(fit, term.names[0], by=term.names[1], term=term.name)
        elif term.kind == "polynomial":
            statements += curve_statements(fit, term.names[0], term.name, bend_sentence(fit, term))
        elif term.is_categorical:
            facts = GroupFacts.of(fit, term, told_of)
            averaged = None if fit.not_averaged(term.name) else records_of(fit.groups(term.name))
            adjusted = {row["level"]: row["adjusted"] for row in averaged or ()}
            single = [
                _compared(fit, term, row, marginal, adjusted, facts)
                for row in told_of
                if not row["base"] and row["level"] in few
            ]
            statements += one_verdict(_jointly(fit, term, rows).with_caution(*beside), single)
        elif sources_in(fit, term.column):
            statements.append(Statement(term.name, "", follower_sentence(fit, term.column, told_of[0])))
        elif fit.moves_with(term.name):
            first, *more = curve_statements(fit, term.name, term.name, "")
            statements += [first.with_caution(followers_sentence(fit, term.name)), *more]
        else:
            statements.append(_numeric(fit, term, told_of[0], marginal))
    general = [
        f"All of it is about the odds of {_event(fit)}. Odds are not probabilities: odds twice as high are not a probability twice "
        f"as high, which is why both are told.",
        "These are associations in the rows used; a coefficient does not say what would happen if a value were changed.",
    ]
    if fit.rate < _RARE or fit.rate > 1 - _RARE:
        general.insert(
            0,
            f"{_event(fit)} holds in {as_percent(fit.rate)} of the rows: small differences in probability can be large odds ratios.",
        )
    if fit.penalty:
        general.append(
            "Estimates, intervals and p values are those of penalised likelihood (Firth), which takes away most of the bias of few events and is finite also where levels foretell the outcome."
        )
    if any(t.kind == "interaction" for t in fit.model_terms):
        general.append(
            "Slopes and differences that differ by group do so here in log odds; whether they differ in probability is another question."
        )
    statements, rounded = beside_terms(fit, statements)
    general += [*without_errors(fit), *rounded, *beside_overall(fit), *among_many(fit), *about_case_elsewhere(fit)]
    columns = [v.column for v in fit.variables]
    general += [*from_sources(fit), *cut_from_terms(columns), *said_of_clear(fit)]
    told, together = say_once(statements)
    return Reading(told, (*together, *general))


def _event(fit: LogisticFit) -> str:
    return f"`{fit.outcome.name}` = `{fit.event}`"


def _change(value: float) -> str:
    """Say what an odds ratio does to odds."""
    if value >= _TIMES or value < _FEW:  # odds are never 100% lower
        return f"{ratio(value)} times as high"
    size = 100 * abs(value - 1)
    return f"{number(size, decimals_for(size or 1.0, 2) if size < 10 else 0)}% {'lower' if value < 1 else 'higher'}"


def _figures(fit: LogisticFit, row: TableRow, name: str = "odds ratio") -> str:
    size, low, high = ratio_with_ends(*(float(row[key]) for key in ("odds_ratio", "odds_low", "odds_high", "se")))
    return f"{name} {size}, {interval_words(fit, row, f'{low} to {high}')}"


def odds_sentence(fit: LogisticFit, lead: str, row: TableRow, question: str) -> str:
    """Say how much higher or lower the odds are, how sure, and with what held equal, without a full stop; `lead` begins the sentence."""
    told = _change(float(row["odds_ratio"]))
    if math.isnan(float(row["se"])):
        return f"{lead} the odds of {_event(fit)} are estimated {told}, with no standard error"
    if clear(fit, row):
        return f"{lead} the odds of {_event(fit)} are {told} ({_figures(fit, row)}), {held_equal(fit)}"
    return (
        f"{lead} the odds of {_event(fit)} are estimated {told} ({_figures(fit, row)}), {held_equal(fit)}: no clear evidence "
        f"{question}, in either direction"
    )


def _points(fit: LogisticFit, row: TableRow, per: str = "") -> str:
    """Say a difference of probabilities in percentage points, with its interval."""
    size, ends = points_words(*(float(row[k]) for k in ("effect", "low", "high", "se")))
    return f"{size}{per} ({interval_words(fit, row, ends, tested=False)})"


def _wide(row: TableRow, of: str = "odds") -> list[str]:
    low, high = float(row["odds_low"]), float(row["odds_high"])
    if math.isnan(low):
        return []
    if high / low > _WIDE if low > 0 else True:
        _, *ends = ratio_with_ends(float(row["odds_ratio"]), low, high, float(row["se"]))
        return [f"The interval is wide: from {ends[0]} to {ends[1]} times the {of}."]
    return []


def _parted(fit: LogisticFit, row: TableRow, in_probability: TableRow) -> list[str]:
    """Say that of the same comparison one scale holds clear evidence and the other does not."""
    if clear(fit, row) == clear(fit, in_probability):
        return []
    here, there = ("probability", "odds") if clear(fit, row) else ("odds", "probability")
    return [
        f"In {here} the interval includes no difference, in {there} it does not: each is an approximation of its own, so read it as undecided."
    ]


def _start(fit: LogisticFit, row: TableRow) -> Statement:
    if pd.isna(row["estimate"]):
        return Statement("(intercept)", "", f"From these bases the equation cannot be told: {no_start(fit)}.")
    where, cautions = start_words(fit)
    odds = float(row["odds_ratio"])
    probability = odds / (1 + odds) if math.isfinite(odds) else 1.0
    told, low, high = ratio_with_ends(odds, float(row["odds_low"]), float(row["odds_high"]), float(row["se"]))
    text = (
        f"The equation starts from odds of {told} for {_event(fit)} ({interval_words(fit, row, f'{low} to {high}', tested=False)}), which is a probability of "
        f"{as_percent(probability)}: with {', '.join(where)}."
    )
    return Statement("(intercept)", "", text, tuple(cautions))


def _numeric(fit: LogisticFit, term: Term, row: TableRow, marginal: Mapping[tuple[str, str], TableRow]) -> Statement:
    if pd.isna(row["estimate"]):
        return Statement(term.name, "", no_slope(fit, term.name))
    at, cautions = at_reference(fit, term.name)
    cautions = [
        *about_codes(term.column),
        *about_case(fit, row),
        *about_line(fit, term.name, row),
        *about_few(fit, term.column),
        *about_step(fit, term.column),
        *about_clusters(fit, term.variables[0]),
        *about_overlap(fit, term.variables[0]),
        *about_held(fit, term.variables[0]),
        *partly_derived(fit, term.column),
        *cautions,
    ]
    lead, question = step_lead(term.column, at)
    text = odds_sentence(fit, lead, row, question)
    if (twice := twice_as_large(fit, term.column, row)) is not None:
        size, low, high = ratio_with_ends(*(math.exp(min(v, 700.0)) for v in twice[1][:3]), twice[1][3])
        is_clear = "" if clear(fit, row) else "estimated "
        text += f". {twice[0]} they are {is_clear}{_change(math.exp(min(twice[1][0], 700.0)))} (odds ratio {size}, {percent(fit)} CI {low} to {high})"
    effect = marginal[term.name, ""]
    where = f", not only{at}" if at else ""
    per = "" if question == "of a difference" else f" per {term.column.step_one}"
    text += f". Averaged over these rows{where}, the probability is {_points(fit, effect, per)}."
    if max(abs(float(effect[key])) for key in ("effect", "low", "high")) > 1:
        sd = fit.rows_used.spread(term.name)[2]
        cautions.append(
            f"No two probabilities are more than 100 percentage points apart: this is how steep it is, "
            f"{short(100 * abs(float(effect['effect'])) * sd)} points over one standard deviation ({short(sd)})."
        )
    cautions += [*_wide_slope(fit, term, row), *(() if at else _parted(fit, row, effect))]
    return Statement(term.name, "", text, tuple(cautions))


def _wide_slope(fit: LogisticFit, term: Term, row: TableRow) -> list[str]:
    """Caution where the interval is wide over one standard deviation of the numeric column."""
    sd = fit.rows_used.spread(term.name)[2]
    low, high = float(row["low"]) * sd, float(row["high"]) * sd
    if high - low > math.log(_WIDE):
        return [
            f"The interval is wide: over one standard deviation ({short(sd)}) it runs from {ratio(math.exp(low))} to {ratio(math.exp(min(high, 700)))} times the odds."
        ]
    return []


def _compared(
    fit: LogisticFit,
    term: Term,
    row: TableRow,
    marginal: Mapping[tuple[str, str], TableRow],
    adjusted: Mapping[str, float],
    facts: GroupFacts,
) -> Statement:
    scheme, level = term.column.scheme, str(row["level"])
    if pd.isna(row["estimate"]):
        return Statement(term.name, level, not_estimated(fit, term, level, {term.name: level}))
    if scheme == "trend":
        told = "rising" if row["estimate"] > 0 else "falling"
        shape = f"a {told} {level}" if level == "linear trend" else f"a {level}"
        if math.isnan(float(row["se"])):
            shape = f"an estimated {level}"
        elif not clear(fit, row):
            shape = f"no clear evidence of a {level}"
        decimals = decimals_for(float(row["se"]))
        estimate, low, high = (number(float(row[k]), decimals) for k in ("estimate", "low", "high"))
        figures = f"coefficient {estimate}, {interval_words(fit, row, f'{low} to {high}')}"
        if level == "linear trend" and not math.isnan(float(row["se"])):
            ratios = (math.exp(float(row[k]) * trend_step(term)) for k in ("estimate", "low", "high"))
            figures += "; from each level to the next an odds ratio of {} ({} to {})".format(
                *(ratio(v) for v in ratios)
            )
        text = f"Over the order of `{term.name}`, the log odds of {_event(fit)} show {shape} ({figures}), {held_equal(fit)}."
        return Statement(term.name, level, text, (EQUAL_STEPS,))
    against = {
        "indicator": f"compared with the base `{row['against']}`",
        "effect": f"compared with the mean of the {len(term.labels)} levels in log odds, each counted once",
        "adjacent": f"compared with the level before it, `{row['against']}`",
    }[scheme]
    at, cautions = at_reference(fit, term.name)
    text = odds_sentence(fit, f"For `{term.name}` `{level}`, {against}{at},", row, "of a difference")
    if scheme == "indicator" and adjusted:
        own = marginal[term.name, level]
        where = f" as they are, not{at}" if at else ""
        text += (
            f". In probability, averaged over these rows{where}: {as_percent(adjusted[level])} against "
            f"{as_percent(adjusted[term.base_label])}, {_points(fit, own)}"
        )
        cautions += [] if at else _parted(fit, row, own)
    cautions = [
        *about_case(fit, row),
        *about_levels(fit, term, row, facts),
        *_few_events(fit, term, level),
        *_wide(row),
        *cautions,
    ]
    return Statement(term.name, level, f"{text}.", tuple(cautions))


def _few_events(fit: LogisticFit, term: Term, level: str) -> list[str]:
    rows, events = fit.events_by_level(term.name)
    place = list(term.labels).index(level)
    n, e = int(rows[place]), int(events[place])
    if min(e, n - e) >= _SPARSE:
        return []
    which, fewer = (fit.event, e) if e <= n - e else (fit.otherwise, n - e)
    plain = fit.by_likelihood and not fit.penalty  # the penalty goes with no errors but those of the likelihood
    way = "penalised likelihood (Firth) is safer" if plain else "what is told of it rests on these"
    return [
        f"Only {fewer} of {count_noun(n, 'row')} with `{term.name}` `{level}` {'has' if fewer == 1 else 'have'} `{fit.outcome.name}` = `{which}`: {way}."
    ]


def _product(fit: LogisticFit, term: Term, told: Coefficient, row: TableRow) -> Statement:
    level = str(row["level"])
    if pd.isna(row["estimate"]):
        return Statement(term.name, level, not_estimated(fit, term, level, dict(told.shown_levels)))
    cautions = _wide(row, "odds ratio") if not told.powers else []
    cautions += about_rows(fit, dict(told.shown_levels), int(row["n"]))
    lead, kind = contrast_words(term, told, f"the odds of {_event(fit)}", at_reference(fit, *term.names)[0])
    if kind == "slope":
        lead = lead.replace("the slope of the odds of", "the odds ratio for")
    elif kind == "difference":
        lead = lead.replace("The difference in the odds of", "The odds ratio for")
    sure = clear(fit, row) or math.isnan(float(row["se"]))
    tail = "" if sure else ": no clear evidence of a difference, in either direction"
    if kind == "product":
        decimals = decimals_for(float(row["se"]))
        ends = f"{number(float(row['low']), decimals)} to {number(float(row['high']), decimals)}"
        figures = interval_words(fit, row, ends)
        text = f"{lead} {number(float(row['estimate']), decimals)} in log odds ({figures}), {held_equal(fit)}{tail}."
        return Statement(term.name, level, text, tuple(cautions))
    times = ratio_with_ends(*(float(row[key]) for key in ("odds_ratio", "odds_low", "odds_high", "se")))[0]
    figures = _figures(fit, row, "ratio of odds ratios")
    text = (
        f"{lead} {'' if clear(fit, row) else 'estimated '}{times} times as large ({figures}), {held_equal(fit)}{tail}."
    )
    return Statement(term.name, level, text, tuple(cautions))


def _jointly(fit: LogisticFit, term: Term, rows: pd.DataFrame) -> Statement:
    test = records_of(fit.terms[fit.terms["term"] == term.name])[0]
    clearly = test["p"] < fit.alpha
    figures = joint_figures(fit, test)
    if term.name in fit.untested and not fit.by_likelihood:
        text = f"`{term.name}` cannot be tested as a whole: {fit.untested[term.name]}."
        return Statement(term.name, "", text)
    if term.kind == "interaction":
        told = what_differs(term, bool(clearly), " in log odds")
        at, outside = at_reference(fit, *term.names)
        outside += beside_joint(bool(clearly), rows, fit.alpha, IN_INTERACTIONS)
        return Statement(term.name, "", f"{told}{at} ({figures}), {held_equal(fit)}.", tuple(outside))
    at, cautions = at_reference(fit, term.name)
    if none_compared(rows):
        text = f"No level of `{term.name}` can be compared with its base{at}."
        return Statement(term.name, "", text, tuple(about_group(fit, term, rows)))
    few = [caution for level in unnamed_levels(term) for caution in _few_events(fit, term, level)]
    cautions = [*about_group(fit, term, rows), *few, *cautions]
    together = f"Taken together, {levels_told(term, rows)}"
    verb = "differ" if clearly else "show no clear evidence of differing"
    cautions += beside_joint(bool(clearly), rows, fit.alpha)
    return Statement(
        term.name,
        "",
        f"{together} {verb} in the odds of {_event(fit)}{at} ({figures}), {held_equal(fit)}.",
        tuple(cautions),
    )
