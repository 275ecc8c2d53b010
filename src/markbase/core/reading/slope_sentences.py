"""Sentences about curves, and about slopes that depend on another column."""

from __future__ import annotations

import math

from markbase.core.design.terms import Term, Variable, variables_of
from markbase.core.errors import listed, quoted
from markbase.core.formatting import decimals_for, p_phrase, plain, value_with_ends
from markbase.core.reading.clauses import (
    held_equal,
    joint_figures,
    per_step,
    percent,
    step_words,
)
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.simple_slopes import SLOPE_FIGURES
from markbase.core.results.statements import Statement
from markbase.core.results.turning_points import CORNER
from markbase.core.study.derived_values import origins
from markbase.core.tables import name_beside, records_of


def at_reference(fit: AnyFit, *names: str) -> tuple[str, list[str]]:
    """Say where a coefficient holds whose columns are part of an interaction with others, and whether that lies outside the data.

    `` at …``, empty if it holds everywhere, and the cautions.
    """
    others: dict[str, Variable] = {
        v.name: v for t in fit.model_terms if set(names) < set(t.names) for v in t.variables if v.name not in names
    }
    if not others:
        return "", []
    places, cautions = [], []
    for variable in others.values():
        if variable.is_categorical:
            places.append(reference_words(variable))
            continue
        places.append(f"`{variable.name}` = 0")
        low, high, _ = fit.rows_used.spread(variable.name)
        if not low <= 0 <= high:
            cautions.append(
                f"`{variable.name}` = 0 lies outside these rows ({plain(low)} to {plain(high)}); centre `{variable.name}` to compare where "
                f"the data are."
            )
    return f" at {listed(places)}", cautions


def reference_words(variable: Variable) -> str:
    """Say where a group is held: its base, or the mean of its levels."""
    if variable.column.scheme != "indicator":
        return f"the mean of the levels of `{variable.name}`"
    return f"the base `{variable.base_label}` of `{variable.name}`"


def curve_statements(fit: AnyFit, numeric: str, term: str, joint: str) -> list[Statement]:
    """Say what a curve means: its tests, its slopes at chosen values, and where it turns; `joint` tells its joint test."""
    statements = [Statement(term, "", joint)] if joint else []
    depends, variables = fit.slope_depends_on(numeric), variables_of(fit.model_terms)
    others = [name for name in depends if name != numeric and not variables[name].is_categorical]
    statements += slope_statements(fit, numeric, by=others[0] if others and numeric not in depends else None, term=term)
    averaged = averaged_over(fit, numeric, numeric)
    averaged += "," if averaged else ""
    try:
        turns = fit.turning_points(numeric)
    except ValueError:
        return statements
    inside = turns[turns["inside"]] if len(turns) else turns
    if not len(turns):
        statements.append(
            Statement(term, "turn", f"The fitted curve of `{numeric}`{averaged} does not turn within these rows.")
        )
    for _, turn in turns.iterrows():
        bounded = math.isfinite(turn["fieller_low"]) and math.isfinite(turn["fieller_high"])
        interval = (
            CORNER
            if turn["fieller_low"] == turn["fieller_high"]
            else f"{percent(fit)} CI {plain(turn['fieller_low'], 4)} to {plain(turn['fieller_high'], 4)}, Fieller"
            if bounded
            else f"the {percent(fit)} CI has no end on one side or both: the rows hardly say where"
        )
        low, high, _ = fit.rows_used.spread(numeric)
        where = (
            "inside these rows"
            if turn["inside"]
            else f"outside these rows ({plain(low)} to {plain(high)}): within them it only rises or only falls"
            if len(turns) == 1 or not len(inside)
            else "outside these rows"
        )
        statements.append(
            Statement(
                term,
                "turn",
                f"The curve{averaged} has its {turn['kind']} at `{numeric}` = {plain(turn['value'], 4)} ({interval}), {where}.",
            )
        )
    return statements


def no_slope(fit: AnyFit, numeric: str) -> str:
    """Say that the slope of a numeric column cannot be estimated where the other columns are held."""
    at, _ = at_reference(fit, numeric)
    return f"The slope of `{numeric}`{at} cannot be estimated: the rows used lack a combination of levels it rests on."


def slope_statements(fit: AnyFit, numeric: str, by: str | None, term: str) -> list[Statement]:
    """Say the slope of a numeric column at chosen values of another, or of itself, in one sentence."""
    by = by if by in fit.slope_depends_on(numeric) else None  # what moves with a column is not held beside it
    table = fit.simple_slopes(numeric, by=by)
    held = by or numeric
    key, own = (name_beside(SLOPE_FIGURES, name) for name in (held, numeric))
    if key not in table.columns and (by or len(table) > 1):
        return []
    logistic = "odds_ratio" in table.columns
    parts = []
    for _, row in table.iterrows():
        decimals = decimals_for(float(row["se"]))
        size, low, high = value_with_ends(row["slope"], row["low"], row["high"], decimals)
        where = f" at `{held}` = {plain(row[key], 3)}" if key in table.columns else ""
        where += f" and `{numeric}` = {plain(row[own], 3)}" if by and own in table.columns else ""
        told = f"{low} to {high}, {p_phrase(float(row['p']))}"
        if not math.isfinite(row["slope"]):
            told = "steep without bound in some row, so that it has no average"
        elif math.isnan(row["se"]):
            told = "no standard error"
        parts.append(f"{size}{where} ({told})")
    variable = fit.variable(numeric, "numeric")
    step = per_step(variable.column).rstrip(",")
    what = "the log odds" if logistic else f"`{fit.outcome.name}`"
    unit = "" if logistic else f" in {step_words(fit, 2.0)}"
    averaged = averaged_over(fit, numeric, held)
    text = f"Slope of {what}{unit} per {step}{averaged}, with its {percent(fit)} CI: {'; '.join(parts)}."
    return [Statement(term, "slopes", text)]


def averaged_over(fit: AnyFit, numeric: str, held: str) -> str:
    """Say which columns a slope differs by and is averaged over, since they are not held; empty if there are none."""
    moved, variables = {numeric, *fit.moves_with(numeric)}, variables_of(fit.model_terms)
    settled = {numeric, held, *(n for n in moved if not origins(variables[n].column, variables)[1])}
    others = {
        name: None
        for t in fit.model_terms
        if moved & set(t.names)
        for name, degree in zip(t.names, t.degrees, strict=True)
        if name not in settled and (name not in moved or degree > 1 or len(moved & set(t.names)) > 1)
    }
    return f", averaged over {listed(quoted(others))} as in these rows" if others else ""


def bend_sentence(fit: AnyFit, term: Term) -> str:
    """Say what the joint test of a polynomial, and the test of its bend alone, tell."""
    test = records_of(fit.terms[fit.terms["term"] == term.name])[0]
    bend = fit.bend_test(term.names[0])
    where, _ = at_reference(fit, term.names[0])
    sure, curved = fit._judged(term.name, test["p"]) < fit.alpha, bool(bend.p < fit.alpha)
    name = f"`{term.names[0]}`"
    powers = f"{name} and its {'square' if term.degrees[0] == 2 else 'square and cube'}"
    together = (
        f"Taken together, {powers} {'go' if sure else 'show no clear evidence of going'} with `{fit.outcome.name}`"
    )
    jointly = f"{together}{where} ({joint_figures(fit, test)})"
    if term.name in fit.untested and math.isnan(test["p"]):
        jointly = f"{powers[0].upper()}{powers[1:]} cannot be tested together: {fit.untested[term.name]}"
    shape = "the line is clearly bent" if curved else "no clear evidence that the line is bent"
    figures = joint_figures(fit, vars(bend), bend.kind)
    if math.isnan(bend.p):
        return f"{jointly}; whether the line is bent cannot be tested: {bend.untested or fit.errors.unknown_words}."
    return f"{jointly}; {shape}{where} ({figures}), {held_equal(fit)}."
