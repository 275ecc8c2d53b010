"""Sentences about curves and interactions: what differs by what, slopes at chosen values, and where a curve turns."""

from __future__ import annotations

import math
from collections.abc import Collection, Sequence
from dataclasses import replace

import pandas as pd

from markbase.core.design.coefficient_map import Coefficient
from markbase.core.design.mean_columns import follow
from markbase.core.design.terms import POWER_MARKS, Term, Variable, variables_of
from markbase.core.errors import listed, quoted
from markbase.core.formatting import decimals_for, number, p_phrase, plain, short, value_with_ends
from markbase.core.reading.cell_cautions import about_rows, not_estimated
from markbase.core.reading.clauses import (
    clear,
    held_equal,
    interval_words,
    is_logged,
    joint_figures,
    outcome_words,
    per_step,
    percent,
    size,
)
from markbase.core.reading.group_cautions import beside_joint
from markbase.core.reading.slope_sentences import at_reference, slope_statements
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.statements import Statement
from markbase.core.results.stored_fit import StoredFit
from markbase.core.study.column import Column
from markbase.core.study.derived_values import origins
from markbase.core.tables import TableRow, records_of

IN_INTERACTIONS = "read the slopes, or the combinations of levels, themselves"
"""What would do where an interaction is clear and none of its coefficients."""


def what_differs(term: Term, sure: bool, scale: str = "") -> str:
    """Say in a clause what the joint test of an interaction is about, found or not found; `scale` is `` in log odds``, or empty."""
    groups, numerics = [v.name for v in term.groups], [v.name for v in term.numerics]
    if len(term.names) == 3:
        what, by = f"the interaction of `{term.names[0]}` and `{term.names[1]}`", term.names[2]
    elif not numerics:
        what, by = f"the differences between levels of `{groups[0]}`", groups[1]
        verb = "differ"
        found = f"{what} {verb} by `{by}`{scale}"
        return found[0].upper() + found[1:] if sure else f"No clear evidence that {found}"
    elif groups:
        curve = any(d > 1 for d in term.degrees)
        what, by = f"the {'curve' if curve else 'slope'} of `{numerics[0]}`", groups[0]
    else:
        what, by = f"the slope of `{numerics[0]}`", numerics[1]
    found = f"{what} differs by `{by}`{scale}"
    return found[0].upper() + found[1:] if sure else f"No clear evidence that {found}"


def about_averages(fit: AnyFit | StoredFit, group: str, held: Collection[str] = ()) -> list[str]:
    """Say which interactions of a group are clear, so that differences told of it are averages; not those with columns that are held at a value."""
    told, tests = [], {str(row["term"]): row for row in records_of(fit.terms)}
    for term in fit.model_terms:
        others = [name for name in term.names if name != group]
        if group not in term.names or not others or set(others) & set(held) or term.name in fit.untested:
            continue
        if fit._judged(term.name, tests[term.name]["p"]) < fit.alpha:
            told.append(average_words(fit, term, group, joint_figures(fit, tests[term.name])))
    return told


def average_words(fit: AnyFit | StoredFit, term: Term, group: str, figures: str) -> str:
    """Say that differences of a group are averages, since an interaction with it is clear by some figures, as a clause."""
    found = what_differs(term, True, " in log odds" if fit.family.ratios else "")
    others = " and ".join(f"`{name}`" for name in term.names if name != group)
    return f"{found[0].lower()}{found[1:]} ({figures}): the differences told here are averages over the rows, and not the same at every {others}"


def interaction_statements(
    fit: AnyFit, term: Term, rows: pd.DataFrame, few: Collection[str], about_few: Sequence[str]
) -> list[Statement]:
    """Say what an interaction in a linear fit means.

    The joint test by its name, then each coefficient that is not a base, or those of `few_told`; of two numeric columns also the slopes at
    chosen values.
    """
    test = records_of(fit.terms[fit.terms["term"] == term.name])[0]
    untested = fit.untested.get(term.name, "")
    at, outside = at_reference(fit, *term.names)
    beside: list[str] = []
    if untested:
        joint = (
            f"Whether {what_differs(term, True)[0].lower()}{what_differs(term, True)[1:]} cannot be tested: {untested}."
        )
    else:
        sure = fit._judged(term.name, test["p"]) < fit.alpha
        joint = f"{what_differs(term, sure)}{at} ({joint_figures(fit, test)}), {held_equal(fit)}."
        beside = beside_joint(sure, rows, fit.alpha, IN_INTERACTIONS)
    statements = [Statement(term.name, "", joint, (*outside, *beside, *about_few))]
    for told, row in zip(told_rows(fit, term), records_of(rows), strict=True):
        if not row["base"] and row["level"] in few:
            statements.append(_one(fit, term, told, row, at))
    if len(statements) == 2 and not untested:  # one coefficient: its own sentence is the test
        statements = [replace(statements[1], cautions=(*outside, *statements[1].cautions))]
    if len(term.numerics) == 2 and not term.groups:
        statements += slope_statements(fit, term.names[0], by=term.names[1], term=term.name)
    return statements


def told_rows(fit: AnyFit, term: Term) -> list[Coefficient]:
    """Return what each row of a term in the table of coefficients is."""
    return [told for told in fit.coefficient_map.rows if told.term == term.name]


def _one(fit: AnyFit, term: Term, told: Coefficient, row: TableRow, at: str) -> Statement:
    level = str(row["level"])
    if pd.isna(row["estimate"]):
        return Statement(term.name, level, not_estimated(fit, term, level, dict(told.shown_levels)))
    cautions = []
    cautions += about_rows(fit, dict(told.shown_levels), int(row["n"]))
    spread = math.prod(fit.rows_used.spread(name)[2] ** power for name, power in told.powers)
    if (row["high"] - row["low"]) * spread > fit.outcome_sd:
        cautions.append("The interval is wide.")
    lead, between = contrast_words(term, told, outcome_words(fit.outcome), at, is_logged(fit.outcome))
    text = _coefficient(fit, row) if between == "product" else size(fit, row, "of a difference")
    return Statement(term.name, level, f"{lead} {text}", tuple(cautions))


def contrast_words(term: Term, told: Coefficient, outcome: str, at: str, logged: bool = False) -> tuple[str, str]:
    """Say what one coefficient of an interaction compares, `at` a place as `at_reference` says it.

    Returns the beginning of a sentence that ends in "is", and what the number is: ``slope``, ``difference`` or ``product``.
    A `logged` outcome is a geometric mean, of which differences are ratios and slopes factors.
    """
    shown = dict(told.shown_levels)
    columns = {v.name: v for v in term.variables}
    if len(told.powers) == 1 and len(told.shown_levels) == 1:
        (name, power), (group, level) = told.powers[0], told.shown_levels[0]
        against = _against(columns[group], told)
        if power == 1 and all(d == 1 for d in term.degrees):
            step = per_step(columns[name].column).rstrip(",")
            slope = (
                f"the factor by which each {step} multiplies {outcome}"
                if logged
                else f"the slope of {outcome} per {step}"
            )
            return f"For `{group}` `{level}`, compared with {against}, {slope}{at} is", "slope"
        return (
            f"For `{group}` `{level}`, compared with {against}, the coefficient of `{name}`{POWER_MARKS[power]} in the curve of {outcome}{at} is",
            "product",
        )
    if not told.powers and len(told.shown_levels) == 2:
        (first, a), (second, b) = told.shown_levels
        bases = [
            f"`{columns[n].base_label}`" if columns[n].column.scheme == "indicator" else "the mean of its levels"
            for n in (first, second)
        ]
        what = "ratio of" if logged else "difference in"
        return (
            f"The {what} {outcome} between `{first}` `{a}` and {bases[0]}, for `{second}` `{b}` compared with {bases[1]}{at}, is",
            "difference",
        )
    if len(told.powers) == 2 and not told.shown_levels and all(power == 1 for _, power in told.powers):
        (first, _), (second, _) = told.powers
        step = per_step(columns[second].column).rstrip(",")
        slope = (
            f"the factor by which each further unit of `{first}` multiplies {outcome}"
            if logged
            else f"the slope of {outcome} per unit of `{first}`"
        )
        return f"Per {step}, {slope}{at} is", "slope"
    parts = [f"`{n}`{POWER_MARKS[p]}" for n, p in told.powers] + [f"`{g}` `{v}`" for g, v in shown.items()]
    return f"The coefficient of the product of {listed(parts)} for {outcome}{at} is", "product"


def _against(variable: Variable, told: Coefficient) -> str:
    scheme = variable.column.scheme
    if scheme == "indicator":
        return f"the base `{variable.base_label}`"
    if scheme == "effect":
        return "the mean of the levels"
    return f"the level before it, `{told.compared.against}`" if scheme == "adjacent" else "no trend"


def _named(level: str, term: Term) -> str:
    return f"`{level}` of `{term.name}`"


def _coefficient(fit: AnyFit, row: TableRow) -> str:
    """Write the coefficient of a product that is neither a slope nor a difference, with its interval, and whether it is clear."""
    if math.isnan(float(row["se"])):
        return f"estimated {short(row['estimate'])}, with no standard error."
    decimals = decimals_for(float(row["se"]))
    _, low, high = value_with_ends(row["estimate"], row["low"], row["high"], decimals)
    interval = f"{percent(fit)} CI {low} to {high}, {p_phrase(float(row['p']))}"
    sure = clear(fit, row)
    tail = "" if sure else ": no clear evidence of a difference, in either direction"
    return f"{'' if sure else 'estimated '}{number(row['estimate'], decimals)} ({interval}), {held_equal(fit)}{tail}."


def followers_sentence(fit: AnyFit, numeric: str) -> str:
    """Say which columns move with a numeric column, since they were derived from it."""
    names, inside = fit.moves_with(numeric), variables_of(fit.model_terms)
    outside = list(dict.fromkeys(n for name in names for n in origins(inside[name].column, inside)[1]))
    if outside:
        each = listed(quoted(names))
        return (
            f"{each} {'was' if len(names) == 1 else 'were'} derived from `{numeric}` and {listed(quoted(outside))}: the slope told here lets {each} move "
            f"along, with {listed(quoted(outside))} as in these rows. The coefficient of `{numeric}` itself is that at the same {each}, which takes other "
            f"values of {listed(quoted(outside))}."
        )
    steep = (
        ""
        if math.isfinite(fit.slope_at(numeric)[0])
        else (
            f" There is no average of it over the rows: {listed(quoted(names))} {'is' if len(names) == 1 else 'are'} steep without bound at a value that some of them have."
        )
    )
    return (
        f"`{numeric}` cannot change with {listed(quoted(names))} held equal, since {'it was' if len(names) == 1 else 'they were'} derived "
        f"from it: its own coefficient is only part of its slope, which is told at chosen values.{steep}"
    )


def sources_in(fit: AnyFit, column: Column) -> list[str]:
    """Return the columns of the model that a column was derived from, and moves with; empty if it was derived from others as well."""
    inside, outside = origins(column, variables_of(fit.model_terms))
    return [] if outside else inside


def partly_derived(fit: AnyFit, column: Column) -> list[str]:
    """Return what must be read with a column that was derived from columns of the model and from others."""
    inside, outside = origins(column, variables_of(fit.model_terms))
    if not inside or not outside:
        return []
    told, own = listed(quoted(inside)), listed(quoted(outside))
    return [
        f"`{column.name}` was derived from {told} and {own}: at the same {told} it differs by {own} alone, so this is about {own}."
    ]


def follower_sentence(fit: AnyFit, column: Column, row: TableRow) -> str:
    """Say what the coefficient of a column is that moves only with another of the model."""
    decimals = decimals_for(float(row["se"]))
    ends = f"{number(row['low'], decimals)} to {number(row['high'], decimals)}"
    sources = listed(quoted(sources_in(fit, column)))
    return (
        f"The coefficient of `{column.name}` is {number(row['estimate'], decimals)} ({interval_words(fit, row, ends)}): "
        f"it was derived from {sources} and moves only with {sources}, so it is read together with {sources}, not by itself."
    )


def start_words(fit: AnyFit) -> tuple[list[str], list[str]]:
    """Return where the intercept holds every variable, and what must be read with it."""
    variables = variables_of(fit.model_terms).values()
    numerics = {v.name: v for v in variables if not v.is_categorical}
    free = {name: 0.0 for name, v in numerics.items() if not sources_in(fit, v.column)}
    # a square is 0 where its source is; the square of what was centred, a logarithm and a reciprocal are not
    apart = [name for name, v in numerics.items() if name not in free and follow(v.column, free, slice(None)) != 0]
    where = [f"`{name}` = 0" for name in numerics if name in free or name in apart]
    for variable in variables:
        if variable.is_categorical:
            mean = variable.column.scheme != "indicator"
            where.append(
                f"`{variable.name}` at {'the mean of its levels' if mean else f'its base `{variable.base_label}`'}"
            )
    ranges: list[str] = []
    for name in free:
        low, high, _ = fit.rows_used.spread(name)
        if not low <= 0 <= high:
            ranges.append(f"`{name}`{'' if ranges else ' runs'} from {plain(low)} to {plain(high)}")
    outside = [f"in these rows {listed(ranges)}"] if ranges else []
    for name in apart:
        sources = sources_in(fit, numerics[name].column)
        outside.append(f"`{name}` is not 0 where {listed(quoted(sources))} {'is' if len(sources) == 1 else 'are'}")
    return where, [f"It anchors the equation and describes nobody: {', '.join(outside)}."] if outside else []
