"""Sentences about what each block adds, and about estimates that move."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

import pandas as pd

from markbase.core.design.terms import variables_of
from markbase.core.errors import listed, quoted
from markbase.core.formatting import as_percent, decimals_for, number, p_phrase, points, short, without_zero
from markbase.core.reading.clauses import overstated_words
from markbase.core.reading.many_terms import clear_among
from markbase.core.results.changes import AnyFit, Change
from markbase.core.results.linear import LinearFit
from markbase.core.results.movements import keeps_its_meaning, movements, worth_telling
from markbase.core.results.statements import Reading, Statement
from markbase.core.tables import rows_of


def make_block_reading(
    last: AnyFit,
    names: Sequence[str],
    added: Sequence[Sequence[str]],
    fits: Sequence[AnyFit],
    changes: Sequence[Change],
    steps: pd.DataFrame,
) -> Reading:
    """Say what each block adds, and which estimates move when it enters.

    A statement a block, then one for each estimate that moves: clearly, by the standard error of the movement, and by more
    than next to nothing. Estimates that answer another question in the larger model are named and not compared.
    """
    statements = []
    for k, (name, terms, fit, change) in enumerate(zip(names, added, fits, changes, strict=True)):
        statements.append(_adds(name, terms, fit, change, steps.iloc[k], k))
        if k:
            pair = fits[k - 1], fit
            statements += moved_statements(name, *pair, movements(*pair), [f.coefficients for f in pair])
    tests = {name: change.judged_p for name, change in zip(names, changes, strict=True)}
    return Reading(tuple(statements), tuple(said_of_order(last, tests)))


def said_of_order(last: AnyFit, tests: Mapping[str, float]) -> list[str]:
    """Say what holds of every blockwise entry: how many of its `tests`, p by block, are clear by chance, and what its order and its movements do not say."""
    told = [
        *clear_among(tests, last.alpha, "block", "no block added anything"),
        "The order of entry is a choice: what a block adds is what it adds to the blocks before it, and would be another figure in another order.",
        "That an estimate moves does not say why: the terms added may be a common cause, a step on the way, or go together by chance.",
    ]
    if last.family.rescaled:
        told.append(
            "Odds ratios move between blocks also without any confounding, as the same odds are told for narrower groups of people. The movements told "
            "here are free of that (Karlson, Holm and Breen); those between the tables of the blocks are not."
        )
    return told


def _adds(name: str, terms: Sequence[str], fit: AnyFit, change: Change, step: pd.Series, k: int) -> Statement:
    clear = change.judged_p < fit.alpha
    rest = "" if math.isinf(change.df_rest) else f", {change.df_rest:.0f}"
    sign = "chi²" if math.isinf(change.df_rest) else ""
    label = {"F": "F", "Wald F": "Wald F", "likelihood ratio": "likelihood ratio ", "Wald": "Wald "}[change.kind]
    figures = f"{label}{sign}({change.df}{rest}) = {number(change.statistic, 2)}, {p_phrase(change.p)}"
    if overstated := overstated_words(fit, change.overstated):
        figures += f"; {overstated}"
    what = f"Adding {listed(quoted(terms))} (block `{name}`)" if k else f"{listed(quoted(terms))} (block `{name}`)"
    cautions = []
    if isinstance(fit, LinearFit):
        added = float(step["r2_change"])
        whole = without_zero(float(step["r2"]))
        names = fit.fixed_effect_names
        within = f" within the levels of {listed(quoted(names))}" if names else ""
        measure = "R² within" if names else "R²"
        text = (
            f"{what} raises the share of the variance of `{fit.outcome.name}`{within} that is explained in these rows by {points(added)} percentage points, to {measure} {whole} ({figures})"
            if k
            else f"{what} {'explains' if len(terms) == 1 else 'explain'} {as_percent(added)} of the variance of `{fit.outcome.name}`{within} in these rows ({measure} {whole}; {figures})"
        )
        if not math.isnan(float(step["change_low"])):
            low, high = 100 * float(step["change_low"]), 100 * float(step["change_high"])
            decimals = max(1, decimals_for((high - low) / 4, 1))
            text += f", {short(100 * fit.level, 4)}% CI {number(low, decimals)} to {number(high, decimals)}{' percentage points' if k else '%'}"
        if not clear and float(step["change_low"]) > 0:
            cautions.append(
                "No sample of rows can show less than 0, so it is no evidence that this interval lies above 0."
            )
        if not clear and fit.errors.middle is None:
            none = math.isnan(float(step["change_high"]))
            why = (
                "No interval is told, since chance alone nearly always shows more"
                if none
                else "Chance alone shows more"
            )
            cautions += by_chance(why, float(step["r2"]), added, change.df, change.df_rest)
        if clear and added < 0.01:
            cautions.append(VERY_LITTLE)
    else:
        s = fit.strength
        before = float(step["deviance"]) + change.statistic if change.kind == "likelihood ratio" else math.nan
        fall = f" from {number(before, 1)}" if math.isfinite(before) and not getattr(fit, "penalty", "") else ""
        text = f"{what} lower{'s' if k or len(terms) == 1 else ''} the deviance{fall} to {number(s.deviance, 1)} (McFadden {without_zero(s.mcfadden)}, Tjur {without_zero(s.tjur)}; {figures})"
    text += (
        "."
        if clear
        else ": no clear evidence that it adds anything."
        if k
        else ": no clear evidence that it says anything."
    )
    return Statement(name, "", text, tuple(cautions))


VERY_LITTLE = "Clear, but very little: with so many rows even next to nothing has a small p."
"""Of a clear change that is no larger than a percentage point."""


def by_chance(why: str, r2: float, added: float, df: int, df_rest: float) -> list[str]:
    """Say how much coefficients that add nothing seem to add on average, where that is more than was `added`, as a caution that begins with `why`."""
    chance = (1 - r2 + added) * df / (df + df_rest)
    if not added < chance:
        return []
    who = "a coefficient that adds" if df == 1 else f"{df} coefficients that add"
    return [f"{why}: in so many rows {who} nothing would on average seem to add {points(chance)} percentage points."]


def moved_statements(
    block: str, before: AnyFit, after: AnyFit, moved: pd.DataFrame, coefficients: Sequence[pd.DataFrame]
) -> list[Statement]:
    """Say which estimates move when a block enters, judged by the standard error of the movement itself.

    `moved` has the movements between two models, as `movements` gives them, and `coefficients` the tables of both.
    """
    found = []
    errors = coefficients[1].set_index(["term", "level"])["se"]
    tested = [table.set_index(["term", "level"])["p"] for table in coefficients]
    scale = f" in {after.family.coefficient}, both on the scale of the larger model" if after.family.rescaled else ""
    for row in rows_of(moved):
        if not worth_telling(row, float(errors.loc[(row.term, row.level)]), after.alpha):
            continue
        name = f"`{row.term}` `{row.level}`" if row.level else f"`{row.term}`"
        name += f" against `{row.against}`" if row.against else ""
        decimals = decimals_for(float(row.se))
        ends = f"{number(row.low, decimals)} to {number(row.high, decimals)}"
        text = (
            f"With block `{block}` in the model, the estimate of {name} moves from {number(row.before, decimals)} to "
            f"{number(row.after, decimals)}{scale}, by {number(row.change, decimals)} ({short(100 * after.level, 4)}% CI {ends})"
        )
        was, stays = (bool(p.loc[(row.term, row.level)] < after.alpha) for p in tested)
        if row.before * row.after < 0 and was and stays:
            text += ", and changes its sign."
        elif abs(row.after) < abs(row.before) and was:
            text += ": part of what it stood for goes with the terms added."
        elif abs(row.after) > abs(row.before) and stays:
            text += ": the terms added had hidden part of it (suppression)."
        else:
            text += f". By itself it is clear in {'neither model' if not (was or stays) else 'the smaller model only' if was else 'the larger model only'}."
        found.append(Statement(str(row.term), str(row.level), text))
    known = {t.name for t in before.model_terms}
    curved = {t.name: own for t in before.model_terms for own in after.model_terms if t.keys < own.keys}
    for name, own in curved.items():
        found.append(
            Statement(
                name,
                "",
                f"`{own.name}` takes the place of `{name}`, whose powers it has and more: what a curve goes with differs along it, so no one "
                f"estimate of it is compared.",
            )
        )
    changed = [t.name for t in before.model_terms if t.name not in curved and not keeps_its_meaning(t, before, after)]
    added = [t.name for t in after.model_terms if t.name not in known]
    for name in [n for n in changed if n in variables_of(before.model_terms)]:
        moving = [n for n in after.moves_with(name) if n in added]
        if moving:
            changed.remove(name)
            text = (
                f"With {listed(quoted(added))} in the model, the row of `{name}` answers another question than before: what holds at the same "
                f"{listed(quoted(moving))}, derived from it. It is not compared."
            )
            found.append(Statement(name, "", text))
    if changed:
        one = len(changed) == 1
        found.append(
            Statement(
                changed[0],
                "",
                f"With {listed(quoted(added))} in the model, the {'row' if one else 'rows'} of {listed(quoted(changed))} "
                f"{'answers' if one else 'answer'} another question than before: what holds where the other columns are at their reference. "
                f"{'It is' if one else 'They are'} not compared.",
            )
        )
    return found
