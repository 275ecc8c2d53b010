"""One sentence a coefficient: group, base, size, unit, interval, and what was held equal."""

from __future__ import annotations

from typing import Any

import pandas as pd

from markbase.core.errors import count_noun
from markbase.core.reading.told import FitTold, Reading, Statement, TermTold
from markbase.core.study.remarks import THIN_ROWS, looks_coded
from markbase.core.wording import decimals_for, number, p_phrase, short


def make_reading(fit: FitTold) -> Reading:
    """Say what each coefficient of a linear fit means, and no more.

    Parameters
    ----------
    fit : FitTold
        A linear fit.

    Returns
    -------
    Reading
        A statement for the intercept, for each amount, for each group as a whole and for each of
        its levels but the base.
    """
    table = fit.coefficients
    statements = [_start(fit, table.iloc[0])]
    for term in fit.parts:
        rows = table[table["term"] == term.name]
        if term.is_group:
            statements.append(_jointly(fit, term, rows))
            statements += [_level(fit, term, row) for _, row in rows.iterrows() if not row["base"]]
        else:
            statements.append(_amount(fit, term, rows.iloc[0]))
    general = [
        "These are associations in the rows used; a coefficient does not say what would happen if a value were changed."
    ]
    if fit.exact:
        general.insert(0, "The outcome is reproduced exactly, so errors, intervals and p values mean nothing here.")
    return Reading(tuple(statements), tuple(general))


def _start(fit: FitTold, row: pd.Series[Any]) -> Statement:
    bases = [f"`{t.name}` at its base `{t.base_label}`" for t in fit.parts if t.is_group]
    amounts = [t for t in fit.parts if not t.is_group]
    where = [*(f"`{t.name}` = 0" for t in amounts), *bases]
    decimals = decimals_for(float(row["se"]))
    text = (
        f"The equation starts from {number(row['estimate'], decimals)} {_unit(fit, row['estimate'])} of `{fit.outcome.name}` "
        f"({_percent(fit)} interval {number(row['low'], decimals)} to {number(row['high'], decimals)}): the mean expected with "
        f"{', '.join(where)}."
    )
    outside = []
    for term in amounts:
        low, high, _ = fit.spread(term.name)
        if not low <= 0 <= high:
            outside.append(f"`{term.name}` runs from {short(low)} to {short(high)} in these rows")
    if outside:
        return Statement(
            "(intercept)", "", text, (f"It anchors the equation and describes nobody: {', '.join(outside)}.",)
        )
    return Statement("(intercept)", "", text)


def _amount(fit: FitTold, term: TermTold, row: pd.Series[Any]) -> Statement:
    unit = term.column.unit
    per = f"{unit.one} (`{term.name}`)" if unit else f"unit of `{term.name}`"
    lead = f"Per further {per}, `{fit.outcome.name}` is"
    low, high, sd = fit.spread(term.name)
    cautions = []
    if (row["high"] - row["low"]) * sd > fit.outcome_sd and not fit.exact:
        cautions.append("The interval is wide: it leaves open anything from a small to a very large slope.")
    if looks_coded(term.column):
        cautions.append(
            f"`{term.name}` was guessed an amount, but holds few whole numbers ({short(low)} to {short(high)}): if they are "
            f"codes, this slope means nothing; declare it a group."
        )
    return Statement(term.name, "", f"{lead} {_size(fit, row, 'that the two go together')}", tuple(cautions))


def _level(fit: FitTold, term: TermTold, row: pd.Series[Any]) -> Statement:
    lead = f"For `{term.name}` `{row['level']}`, compared with the base `{term.base_label}`, `{fit.outcome.name}` is"
    cautions = []
    if row["n"] < THIN_ROWS:
        cautions.append(
            f"Only {count_noun(int(row['n']), 'row')} used {'is' if row['n'] == 1 else 'are'} `{row['level']}`."
        )
    level = next(v for v in term.column.levels if v.label == row["level"])
    if not level.declared:
        cautions.append(
            f"`{row['level']}` is not a level of the codebook; if it is a misspelling, mend it before reading on."
        )
    if row["high"] - row["low"] > fit.outcome_sd and not fit.exact:
        cautions.append(
            f"The interval is wide: wider than the standard deviation of `{fit.outcome.name}` ({short(fit.outcome_sd)})."
        )
    return Statement(term.name, str(row["level"]), f"{lead} {_size(fit, row, 'of a difference')}", tuple(cautions))


def _size(fit: FitTold, row: pd.Series[Any], question: str) -> str:
    """Say how much higher or lower, how sure, and with what held equal."""
    estimate, low, high = float(row["estimate"]), float(row["low"]), float(row["high"])
    decimals = decimals_for(float(row["se"]))
    held = "other terms held equal" if len(fit.parts) > 1 else "with no other term in the model to be held equal"
    size = f"{number(abs(estimate), decimals)} {_unit(fit, estimate)} {'lower' if estimate < 0 else 'higher'}"
    if fit.exact:
        return f"{number(abs(estimate), decimals_for(abs(estimate) or 1, 6))} {_unit(fit, estimate)} {'lower' if estimate < 0 else 'higher'}, {held}."
    interval = f"{_percent(fit)} interval {_range(low, high, decimals)}, {p_phrase(float(row['p']))}"
    if low > 0 or high < 0:
        return f"on average {size} ({interval}), {held}."
    return f"estimated {size} ({interval}), {held}: no clear evidence {question}, in either direction."


def _range(low: float, high: float, decimals: int) -> str:
    ends = number(abs(low), decimals), number(abs(high), decimals)
    if low > 0:
        return f"{ends[0]} to {ends[1]} higher"
    if high < 0:
        return f"{ends[1]} to {ends[0]} lower"
    return f"{ends[0]} lower to {ends[1]} higher"


def _jointly(fit: FitTold, term: TermTold, rows: pd.DataFrame) -> Statement:
    test = fit.terms[fit.terms["term"] == term.name].iloc[0]
    alpha = 1 - fit.level
    figures = f"F({int(test['df'])}, {fit.df_rest}) = {number(test['statistic'], 2)}, {p_phrase(float(test['p']))}"
    held = "other terms held equal" if len(fit.parts) > 1 else "with no other term in the model"
    others = rows[~rows["base"]]
    clear = int((others["p"] < alpha).sum())
    together = f"Taken together, the {len(rows)} levels of `{term.name}`"
    cautions = []
    base = term.column.base
    n_base = int(rows.loc[rows["base"], "n"].iloc[0])
    if n_base < THIN_ROWS:
        cautions.append(
            f"The base `{term.base_label}` has only {count_noun(n_base, 'row')}, so every comparison with it is wide."
        )
    if base is None or not base.chosen:
        cautions.append(
            f"The base `{term.base_label}` was not chosen: it is the largest level. Mark the one your question needs."
        )
    if fit.exact:
        return Statement(term.name, "", f"{together} are part of an exact equation.", tuple(cautions))
    if test["p"] < alpha:
        text = f"{together} differ in `{fit.outcome.name}` ({figures}), {held}."
        if clear == 0 and len(others) > 1:
            cautions.append(
                f"They differ somewhere, though no level clearly from the base `{term.base_label}`: compare the pairs."
            )
    else:
        text = f"{together} show no clear evidence of differing in `{fit.outcome.name}` ({figures}), {held}."
        if clear and len(others) > 1:
            cautions.append(
                f"One clear row among {len(others)} comparisons is weak evidence while the joint test is not clear."
            )
    return Statement(term.name, "", text, tuple(cautions))


def _unit(fit: FitTold, value: float) -> str:
    unit = fit.outcome.unit
    if unit is None:
        return "units"
    return unit.one if abs(value) == 1 else unit.many


def _percent(fit: FitTold) -> str:
    return f"{short(100 * fit.level, 4)}%"
