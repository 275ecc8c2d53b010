"""Sentences about slopes that differ by group, and differences that differ by another group."""

from __future__ import annotations

from typing import Any

import pandas as pd

from markbase.core.errors import count_noun
from markbase.core.formatting import clear_of_zero, decimals_for, number, p_phrase, short
from markbase.core.reading.clauses import clear, held_equal, outcome_words, per_step, percent, unit_of
from markbase.core.reading.statements import FitTold, Statement, TermTold
from markbase.core.study.remarks import THIN_ROWS


def at_reference(fit: FitTold, name: str) -> tuple[str, list[str]]:
    """Say where a coefficient holds that is part of a slope by group or a crossing.

    Parameters
    ----------
    fit : FitTold
        The fit.
    name : str
        The column the coefficient is about.

    Returns
    -------
    words : str
        `` at …``; empty if the coefficient holds everywhere.
    cautions : list of str
        That the place lies outside the data, if it does.
    """
    others = [p for t in fit.parts if t.parts and name in t.variables for p in t.parts if p.name != name]
    if not others:
        return "", []
    places, cautions = [], []
    for part in others:
        if part.is_categorical:
            mean = part.column.scheme != "indicator"
            places.append(
                f"the mean of the levels of `{part.name}`" if mean else f"the base `{part.base_label}` of `{part.name}`"
            )
            continue
        places.append(f"`{part.name}` = 0")
        low, high, _ = fit.spread(part.name)
        if not low <= 0 <= high:
            cautions.append(
                f"`{part.name}` = 0 lies outside these rows ({short(low)} to {short(high)}); centre `{part.name}` to compare where "
                f"the data are."
            )
    return f" at {' and '.join(places)}", cautions


def interaction_statements(fit: FitTold, term: TermTold, rows: pd.DataFrame) -> list[Statement]:
    """Say what a slope by group, or a crossing, means.

    Parameters
    ----------
    fit : FitTold
        The fit.
    term : TermTold
        The term.
    rows : pandas.DataFrame
        Its rows of the table of coefficients.

    Returns
    -------
    list of Statement
        The joint test by its name, then each coefficient that is not a base.
    """
    statements = [_jointly(fit, term)]
    for _, row in rows.iterrows():
        if not row["base"]:
            statements.append(_one(fit, term, row))
    return statements


def _jointly(fit: FitTold, term: TermTold) -> Statement:
    test = fit.terms[fit.terms["term"] == term.name].iloc[0]
    figures = f"F({int(test['df'])}, {fit.df_rest}) = {number(test['statistic'], 2)}, {p_phrase(float(test['p']))}"
    first, second = term.variables
    sure = test["p"] < fit.alpha
    own_slopes = term.kind == "slope" and first not in {t.name for t in fit.parts}
    if own_slopes:
        told = f"The slopes of `{first}`, one for each level of `{second}`, are {'not all' if sure else 'not clearly other than'} 0"
    elif term.kind == "slope":
        told = (
            f"The lines are not parallel: the slope of `{first}` differs by `{second}`"
            if sure
            else f"No clear evidence against parallel lines: the slope of `{first}` may be the same in every level of `{second}`"
        )
    else:
        told = (
            f"The differences between levels of `{first}` differ by `{second}`"
            if sure
            else f"No clear evidence that the differences between levels of `{first}` differ by `{second}`"
        )
    return Statement(term.name, "", f"{told} ({figures}), {held_equal(fit)}.")


def _one(fit: FitTold, term: TermTold, row: pd.Series[Any]) -> Statement:
    level = str(row["level"])
    if pd.isna(row["estimate"]):
        text = (
            f"`{level}` of `{term.name}` cannot be estimated: the rows used lack a combination of levels it rests on."
        )
        return Statement(term.name, level, text)
    first, second = term.variables
    cautions = []
    if row["n"] < THIN_ROWS:
        cautions.append(f"Only {count_noun(int(row['n']), 'row')} used {'is' if row['n'] == 1 else 'are'} `{level}`.")
    if row["high"] - row["low"] > fit.outcome_sd * (
        1 if term.kind == "cross" else 1 / max(fit.spread(first)[2], 1e-300)
    ):
        cautions.append("The interval is wide.")
    if term.kind == "slope":
        step = per_step(term.parts[0].column).rstrip(",")
        if not row["against"]:
            lead = f"Within `{second}` `{level}`, per {step}, {outcome_words(fit.outcome)} is"
            return Statement(term.name, level, f"{lead} {_numeric(fit, row)}", tuple(cautions))
        lead = f"For `{second}` `{level}`, compared with {_other(term, row)}, the slope of {outcome_words(fit.outcome)} per {step} is"
        return Statement(term.name, level, f"{lead} {_numeric(fit, row)}", tuple(cautions))
    a, b = level.split(" × ", 1)
    base = [p.base_label if p.column.scheme == "indicator" else "the mean of its levels" for p in term.parts]
    lead = (
        f"The difference in {outcome_words(fit.outcome)} between `{first}` `{a}` and `{base[0]}`, for `{second}` `{b}` compared with "
        f"`{base[1]}`, is"
    )
    return Statement(term.name, level, f"{lead} {_numeric(fit, row)}", tuple(cautions))


def _other(term: TermTold, row: pd.Series[Any]) -> str:
    scheme = term.parts[1].column.scheme
    if scheme == "indicator":
        return f"the base `{row['against']}`"
    return str(row["against"]) if scheme == "effect" else f"the level before it, `{row['against']}`"


def _numeric(fit: FitTold, row: pd.Series[Any]) -> str:
    """Say a difference with its sign in words, its interval, and whether it is clear."""
    decimals = decimals_for(float(row["se"]))
    size = f"{number(abs(row['estimate']), decimals)} {unit_of(fit, row['estimate'])} {'lower' if row['estimate'] < 0 else 'higher'}"
    ends = clear_of_zero(row["low"], row["high"], decimals)
    interval = f"{percent(fit)} interval {number(row['low'], ends)} to {number(row['high'], ends)}, {p_phrase(float(row['p']))}"
    sure = clear(fit, row)
    tail = "" if sure else ": no clear evidence of a difference, in either direction"
    return f"{'on average' if sure else 'estimated'} {size} ({interval}), {held_equal(fit)}{tail}."
