"""One sentence a coefficient: group, base, size, unit, interval, and what was held equal."""

from __future__ import annotations

import math

import pandas as pd

from markbase.core.design.term_remarks import cut_from_terms
from markbase.core.design.terms import Term
from markbase.core.errors import listed, quoted
from markbase.core.formatting import decimals_for, number, short
from markbase.core.reading.case_cautions import about_case, about_case_elsewhere
from markbase.core.reading.cell_cautions import no_start, not_estimated
from markbase.core.reading.clauses import (
    clear,
    difference_words,
    held_equal,
    interval_words,
    is_logged,
    is_share,
    joint_figures,
    level_unit,
    outcome_words,
    percent,
    said_of_clear,
    say_once,
    size,
    step_lead,
    twice_as_large,
    unit_of,
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
)
from markbase.core.reading.interaction_sentences import (
    follower_sentence,
    followers_sentence,
    interaction_statements,
    partly_derived,
    sources_in,
    start_words,
)
from markbase.core.reading.line_cautions import about_line
from markbase.core.reading.many_rows import few_told
from markbase.core.reading.many_terms import among_many
from markbase.core.reading.outcome_cautions import about_outcome, from_sources
from markbase.core.reading.overlap_words import about_held, about_overlap
from markbase.core.reading.slope_sentences import at_reference, bend_sentence, curve_statements, no_slope
from markbase.core.reading.term_cautions import beside_terms
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.statements import Reading, Statement
from markbase.core.tables import TableRow, records_of


def make_reading(fit: AnyFit) -> Reading:
    """Say what each coefficient of a linear fit means, and no more.

    A statement for the intercept, for each numeric column, for each group as a whole and for each of its coefficients but the base.
    """
    table = fit.coefficients
    statements = [_start(fit, records_of(table.head(1))[0])]
    for term in fit.model_terms:
        rows = table[table["term"] == term.name]
        told_of = records_of(rows)
        few, beside = few_told(fit, term, rows)
        if term.is_categorical and not few:
            continue
        if term.kind == "interaction":
            statements += interaction_statements(fit, term, rows, few, beside)
        elif term.kind == "polynomial":
            statements += curve_statements(fit, term.names[0], term.name, bend_sentence(fit, term))
        elif term.is_categorical:
            whole = _jointly(fit, term, rows)
            facts = GroupFacts.of(fit, term, told_of)
            single = [_compared(fit, term, row, facts) for row in told_of if not row["base"] and row["level"] in few]
            statements += one_verdict(whole.with_caution(*beside), single)
        elif sources_in(fit, term.column):
            statements.append(Statement(term.name, "", follower_sentence(fit, term.column, told_of[0])))
        elif fit.moves_with(term.name):
            first, *more = curve_statements(fit, term.name, term.name, "")
            statements += [first.with_caution(followers_sentence(fit, term.name)), *more]
        else:
            statements.append(_numeric(fit, term, told_of[0]))
    general = [
        "These are associations in the rows used; a coefficient does not say what would happen if a value were changed."
    ]
    if fit.exact:
        general.insert(0, "The outcome is reproduced exactly, so errors, intervals and p values mean nothing here.")
    statements, rounded = beside_terms(fit, statements)
    general += [
        *without_errors(fit),
        *rounded,
        *beside_overall(fit),
        *among_many(fit),
        *about_case_elsewhere(fit),
        *about_outcome(fit),
    ]
    columns = [v.column for v in fit.variables]
    general += [*from_sources(fit), *cut_from_terms(columns), *said_of_clear(fit)]
    told, together = say_once(statements)
    return Reading(told, (*together, *general))


def _start(fit: AnyFit, row: TableRow) -> Statement:
    if pd.isna(row["estimate"]):
        return Statement("(intercept)", "", f"From these bases the equation cannot be told: {no_start(fit)}.")
    where, cautions = start_words(fit)
    where += [f"`{name}` at the mean over the rows" for name in fit.fixed_effect_names]
    shares = is_share(fit.outcome)
    estimate, low, high = ((100 if shares else 1) * float(row[k]) for k in ("estimate", "low", "high"))
    known = not math.isnan(row["se"])
    decimals = decimals_for(float(row["se"]) * (100 if shares else 1)) if known else decimals_for(abs(estimate) or 1, 3)
    unit = level_unit(fit, estimate)
    what = "% of" if shares else "" if unit == fit.outcome.name else f" {unit} of"
    if fit.exact:
        shown = short(0.0 if abs(estimate) < 1e-9 * fit.outcome_sd else estimate, 8)
        text = f"The equation starts from {shown}{what} `{fit.outcome.name}`: what it gives with {', '.join(where)}."
    else:
        interval = interval_words(fit, row, f"{number(low, decimals)} to {number(high, decimals)}", tested=False)
        text = (
            f"The equation starts from {number(estimate, decimals)}{what} `{fit.outcome.name}`{' = 1' if shares else ''} "
            f"({interval}): the mean expected with {', '.join(where)}."
        )
    if is_logged(fit.outcome) and row["estimate"] < 700:
        typical = math.expm1(row["estimate"]) if fit.outcome.made.how == "log1p" else math.exp(row["estimate"])
        kind = "the geometric mean of 1 + it, less 1" if fit.outcome.made.how == "log1p" else "a geometric mean"
        text = f"{text[:-1]}, which is {short(typical)} in `{fit.outcome.made.of[0]}` itself ({kind})."
    return Statement("(intercept)", "", text, tuple(cautions))


def _doubled(fit: AnyFit, term: Term, row: TableRow) -> str:
    """Say what goes with a logged column whose source is twice as large, and between logarithms the elasticity; empty of another column."""
    twice = twice_as_large(fit, term.column, row)
    if twice is None:
        return ""
    amount, interval = difference_words(fit, *twice[1])
    told = f" {twice[0]} it is {'' if clear(fit, row) else 'estimated '}{amount} ({interval})."
    hows = [own.made.how for own in (term.column, fit.outcome) if own.made is not None]
    if hows == ["log", "log"]:
        decimals = decimals_for(float(row["se"]))
        b, low, high = (number(float(row[key]), decimals) for key in ("estimate", "low", "high"))
        told += (
            f" The elasticity is {b} ({percent(fit)} CI {low} to {high}): about so many percent for one percent more."
        )
    return told


def _numeric(fit: AnyFit, term: Term, row: TableRow) -> Statement:
    if pd.isna(row["estimate"]):
        return Statement(term.name, "", no_slope(fit, term.name))
    sd = fit.rows_used.spread(term.name)[2]
    cautions = []
    if (row["high"] - row["low"]) * sd > fit.outcome_sd and not fit.exact:
        ends = [float(row[k]) * sd * (100 if is_share(fit.outcome) else 1) for k in ("low", "high")]
        unit = "log units" if is_logged(fit.outcome) else unit_of(fit, 2.0)
        cautions.append(
            f"The interval is wide: over one standard deviation of `{term.name}` ({short(sd)}) it runs from {short(ends[0])} to {short(ends[1])} {unit}."
        )
    at, caution = at_reference(fit, term.name)
    cautions += [
        *about_codes(term.column),
        *about_case(fit, row),
        *about_line(fit, term.name, row),
        *about_few(fit, term.column),
        *about_step(fit, term.column),
        *about_clusters(fit, term.variables[0]),
        *about_overlap(fit, term.variables[0]),
        *about_held(fit, term.variables[0]),
        *partly_derived(fit, term.column),
        *caution,
    ]
    lead, question = step_lead(term.column, at)
    told = f"{lead} {outcome_words(fit.outcome)} is {size(fit, row, question)}{_doubled(fit, term, row)}"
    made = term.column.made
    if fit.fixed_effect_names and made is not None and made.how == "lag" and made.of[0] == fit.outcome.name:
        cautions.append(
            f"It is `{fit.outcome.name}` itself, earlier. With the levels of {listed(quoted(fit.fixed_effect_names))} taken out its estimate tends to be "
            f"too low, the more so the fewer rows a level has (Nickell 1981)."
        )
    return Statement(term.name, "", told, tuple(cautions))


def _compared(fit: AnyFit, term: Term, row: TableRow, facts: GroupFacts) -> Statement:
    """Say one coefficient of a group, in the words of its coding."""
    scheme, level = term.column.scheme, str(row["level"])
    if pd.isna(row["estimate"]):
        return Statement(term.name, level, not_estimated(fit, term, level, {term.name: level}))
    if scheme == "trend":
        return _trend(fit, term, row)
    against = {
        "indicator": f"compared with the base `{row['against']}`",
        "effect": f"compared with the mean of the {len(term.labels)} levels, each counted once",
        "adjacent": f"compared with the level before it, `{row['against']}`",
    }[scheme]
    at = at_reference(fit, term.name)[0]
    cautions: list[str] = []
    lead = f"For `{term.name}` `{level}`, {against}{at}, {outcome_words(fit.outcome)} is"
    cautions += [*about_case(fit, row), *about_levels(fit, term, row, facts)]
    if row["high"] - row["low"] > fit.outcome_sd and not fit.exact:
        cautions.append(
            f"The interval is wide: wider than the standard deviation of `{fit.outcome.name}` ({short(fit.outcome_sd)})."
        )
    return Statement(term.name, level, f"{lead} {size(fit, row, 'of a difference')}", tuple(cautions))


def _trend(fit: AnyFit, term: Term, row: TableRow) -> Statement:
    decimals = decimals_for(float(row["se"]))
    estimate, low, high = (number(row[k], decimals) for k in ("estimate", "low", "high"))
    figures = f"{estimate}, {interval_words(fit, row, f'{low} to {high}')}"
    step = trend_step(term)
    if row["level"] == "linear trend" and not math.isnan(row["se"]):
        ends = (
            number(float(row[k]) * step, decimals_for(float(row["se"]) * step)) for k in ("estimate", "low", "high")
        )
        figures += "; from each level to the next {} ({} to {})".format(*ends)
    sure, known = clear(fit, row), not math.isnan(row["se"])
    lead = f"Over the order of `{term.name}`, `{fit.outcome.name}` shows"
    if row["level"] == "linear trend":
        way = "rising" if row["estimate"] > 0 else "falling"
        told = f"a {way} linear trend" if sure else "no clear evidence of a linear trend"
    else:
        told = f"a {row['level']}, a bend," if sure else f"no clear evidence of a {row['level']}"
    told = told if known else f"an estimated {row['level']}"
    text = f"{lead} {told} (coefficient of the trend {figures}), {held_equal(fit)}."
    return Statement(term.name, str(row["level"]), text, (EQUAL_STEPS,))


def _jointly(fit: AnyFit, term: Term, rows: pd.DataFrame) -> Statement:
    test = records_of(fit.terms[fit.terms["term"] == term.name])[0]
    figures = joint_figures(fit, test)
    together = f"Taken together, {levels_told(term, rows)}"
    cautions = about_group(fit, term, rows)
    if fit.exact:
        return Statement(term.name, "", f"{together} are part of an exact equation.", tuple(cautions))
    if none_compared(rows):
        text = f"No level of `{term.name}` can be compared with its base{at_reference(fit, term.name)[0]}."
        return Statement(term.name, "", text, tuple(cautions))
    if term.name in fit.untested:
        text = f"{together} cannot be tested together: {fit.untested[term.name]}."
        return Statement(term.name, "", text, tuple(cautions))
    at, outside = at_reference(fit, term.name)
    sure = fit._judged(term.name, test["p"]) < fit.alpha
    verb = "differ" if sure else "show no clear evidence of differing"
    text = f"{together} {verb} in `{fit.outcome.name}`{at} ({figures}), {held_equal(fit)}."
    return Statement(term.name, "", text, (*cautions, *outside, *beside_joint(sure, rows, fit.alpha)))
