"""Sentences about what each block adds, and about estimates that move."""

from __future__ import annotations

import math
from collections.abc import Sequence

import pandas as pd

from markbase.core.comparison.block_changes import AnyFit, Change
from markbase.core.errors import listed, quoted
from markbase.core.formatting import decimals_for, number, p_phrase, short, without_zero
from markbase.core.results.family import LOGISTIC
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.results.statements import Reading, Statement

_MOVED = 1.0
"""An estimate that moves by as many of its standard errors is told."""


def make_block_reading(
    last: AnyFit,
    names: Sequence[str],
    added: Sequence[Sequence[str]],
    fits: Sequence[AnyFit],
    changes: Sequence[Change],
    steps: pd.DataFrame,
) -> Reading:
    """Say what each block adds, and which estimates move when it enters.

    Parameters
    ----------
    last : LinearFit or LogisticFit
        The whole model.
    names : sequence of str
        The blocks.
    added : sequence of sequence of str
        The terms each adds.
    blocks : sequence of LinearFit or LogisticFit
        The fits.
    changes : sequence of Change
        The tests.
    steps : pandas.DataFrame
        The table of steps.

    Returns
    -------
    Reading
        A statement a block, then one for each estimate that moves by more than its standard error, changes its sign or becomes
        clear or unclear.
    """
    statements = []
    for k, (name, terms, fit, change) in enumerate(zip(names, added, fits, changes, strict=True)):
        statements.append(_adds(name, terms, fit, change, steps.iloc[k], k))
        if k:
            statements += _moves(name, fits[k - 1], fit)
    general = [
        "The order of entry is a choice: what a block adds is what it adds to the blocks before it, and would be another figure in another order.",
        "That an estimate moves does not say why: the terms added may be a common cause, a step on the way, or go together by chance.",
    ]
    if isinstance(last, LogisticFit):
        general.append(
            "Odds ratios move between blocks also without any confounding, as the same odds are told for narrower groups of people; compare "
            "average marginal effects instead."
        )
    return Reading(tuple(statements), tuple(general))


def _adds(name: str, terms: Sequence[str], fit: AnyFit, change: Change, step: pd.Series, k: int) -> Statement:
    clear = change.p < fit.alpha
    rest = "" if math.isinf(change.df_rest) else f", {change.df_rest:.0f}"
    sign = "chi²" if math.isinf(change.df_rest) else ""
    label = {"F": "F", "Wald F": "Wald F", "likelihood ratio": "likelihood ratio ", "Wald": "Wald "}[change.kind]
    figures = f"{label}{sign}({change.df}{rest}) = {number(change.statistic, 2)}, {p_phrase(change.p)}"
    what = f"Adding {listed(quoted(terms))} (block `{name}`)" if k else f"{listed(quoted(terms))} (block `{name}`)"
    verb = "explains" if k or len(terms) == 1 else "explain"
    cautions = []
    if isinstance(fit, LinearFit):
        points = 100 * float(step["r2_change"])
        size = f"{number(points, 1 if points >= 0.1 else 2)} points"
        more = "a further " if k else ""
        text = f"{what} {verb} {more}{size} of the variation in `{fit.outcome.name}` in these rows (R² {without_zero(float(step['r2']))}; {figures})"
        if not math.isnan(float(step["change_low"])):
            low, high = 100 * float(step["change_low"]), 100 * float(step["change_high"])
            text += f", {short(100 * fit.level, 4)}% CI {number(low, 1)} to {number(high, 1)} points"
        if not clear and float(step["change_low"]) > 0:
            cautions.append(
                "No sample of rows can show less than 0, so it is no evidence that this interval lies above 0."
            )
        if clear and points < 1:
            cautions.append("Clear, but very little: with so many rows even next to nothing has a small p.")
    else:
        s = fit.strength
        text = f"{what} bring{'s' if k or len(terms) == 1 else ''} the deviance to {number(s.deviance, 1)} (McFadden {without_zero(s.mcfadden)}, Tjur {without_zero(s.tjur)}; {figures})"
    text += (
        "."
        if clear
        else ": no clear evidence that it adds anything."
        if k
        else ": no clear evidence that it says anything."
    )
    return Statement(name, "", text, tuple(cautions))


def _moves(block: str, before: AnyFit, after: AnyFit) -> list[Statement]:
    old, new = (f.coefficients.set_index(["term", "level"]) for f in (before, after))
    found = []
    for key, row in old.iterrows():
        if row["base"] or key not in new.index or key[0] == "(intercept)" or pd.isna(row["se"]):  # type: ignore[index]
            continue
        now = new.loc[[key]].iloc[0]
        moved = (now["estimate"] - row["estimate"]) / row["se"] if row["se"] > 0 else 0.0
        was, stays = row["p"] < after.alpha, now["p"] < after.alpha
        turned = row["estimate"] * now["estimate"] < 0 and stays
        if abs(moved) < _MOVED and was == stays and not turned:
            continue
        term, level = str(key[0]), str(key[1])  # type: ignore[index]
        name = f"`{term}` `{level}` against `{now['against']}`" if level and now["against"] else f"`{term}`"
        name = f"`{term}` `{level}`" if level and not now["against"] else name
        decimals = decimals_for(float(now["se"]))
        shift = f"from {number(row['estimate'], decimals)} ({p_phrase(float(row['p']))}) to {number(now['estimate'], decimals)} ({p_phrase(float(now['p']))})"
        scale = " in log odds" if after.family is LOGISTIC else ""
        text = f"With block `{block}` in the model, the estimate of {name} moves {shift}{scale}"
        if turned:
            text += ": it changes its sign."
        elif abs(now["estimate"]) < abs(row["estimate"]):
            text += ": part of what it stood for goes with the terms added."
        else:
            text += ": the terms added had hidden some of it (suppression)."
        if was != stays:
            text += f" It {'becomes clear' if stays else 'is no longer clear'}."
        found.append(Statement(term, level, text))
    return found
