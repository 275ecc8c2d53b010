"""Tables as a manuscript has them: what stands in which cell, before any file is made of it."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd

from markbase.core.comparison.blocks import Blocks
from markbase.core.comparison.comparison import Comparison
from markbase.core.errors import listed
from markbase.core.formatting import (
    decimals_for,
    from_to,
    number,
    p_phrase,
    p_value,
    ratio_with_ends,
    short,
    value_with_ends,
    without_zero,
)
from markbase.core.inference.distributions import t_quantile
from markbase.core.results.family import LOGISTIC
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.screening.screen import Screen
from markbase.core.tables import rows_of

AnyFit = LinearFit | LogisticFit
Result = AnyFit | Blocks | Comparison | Screen | tuple[AnyFit, str]


@dataclass(frozen=True)
class Layout:
    """A table for a manuscript."""

    caption: str
    """What stands above it, behind its number."""
    heads: list[str]
    """The heads of its columns."""
    rows: list[tuple[str, list[str]]]
    """Each with its kind: ``plain``, ``base``, or ``group`` for a heading."""
    note: str
    """What stands below it."""


def layout(result: Result) -> Layout:
    """Lay a result out as a table.

    Parameters
    ----------
    result : LinearFit, LogisticFit, Blocks, Comparison, Screen or tuple of a fit and a group
        What to tell.

    Returns
    -------
    Layout
        Its table.
    """
    if isinstance(result, tuple):
        return _levels_layout(*result)
    if isinstance(result, Blocks):
        return _steps_layout(result)
    if isinstance(result, Comparison):
        return _variants_layout(result)
    return _associations_layout(result) if isinstance(result, Screen) else _model_layout(result)


def _model_layout(fit: AnyFit) -> Layout:
    percent = f"{short(100 * fit.level, 4)}% CI"
    logistic = isinstance(fit, LogisticFit)
    heads = ["", "Odds ratio", percent, "Log odds", "SE", "p"] if logistic else ["", "Estimate", "SE", percent, "p"]
    rows: list[tuple[str, list[str]]] = []
    for r in _told(fit):
        name, kind = r["name"], r["kind"]
        if kind != "plain":
            rows.append((kind, [name, *(["base"] if kind == "base" else [""]), *[""] * (len(heads) - 2)]))
            continue
        row = r["row"]
        decimals = decimals_for(float(row.se))
        if logistic:
            size, *ends = ratio_with_ends(row.odds_ratio, row.odds_low, row.odds_high, row.se)
            cells = [size, from_to(*ends), number(row.estimate, decimals), number(row.se, decimals)]
        else:
            size, *ends = value_with_ends(row.estimate, row.low, row.high, decimals)
            cells = [size, number(row.se, decimals), from_to(*ends)]
        rows.append(("plain", [name, *cells, p_value(row.p)]))
    return Layout(f"{fit.explained}: {fit.family.name} regression", heads, rows, _note(fit))


def _told(fit: AnyFit) -> list[dict[str, Any]]:
    """Return the rows of the coefficients with headings for groups."""
    found: list[dict[str, Any]] = []
    before = ""
    products = {t.name for t in fit.model_terms if t.kind == "interaction"}
    for row in rows_of(fit.coefficients):
        if row.level and row.term != before:
            found.append({"kind": "group", "name": str(row.term), "row": row})
        before = str(row.term)
        if row.base and row.term in products:
            continue
        kind = "base" if row.base else "plain"
        if math.isnan(row.estimate):
            continue
        found.append({"kind": kind, "name": f"    {row.level}" if row.level else str(row.term), "row": row})
    return found


def _note(fit: AnyFit) -> str:
    test = fit.overall
    rows = f"n = {fit.sample.used:,} of {fit.sample.rows:,} rows"
    if isinstance(fit, LogisticFit):
        t = fit.strength
        whole = f"{test.kind.capitalize()} chi²({test.df}) = {number(test.statistic, 2)}, {p_phrase(test.p)}"
        return f"{rows}; event: {fit.event} ({fit.events:,}). {whole}; McFadden {without_zero(t.mcfadden)}, Tjur {without_zero(t.tjur)}. {_errors(fit)}."
    whole = f"F({test.df}, {test.df_rest:.0f}) = {number(test.statistic, 2)}, {p_phrase(test.p)}"
    shown = f"R² = {without_zero(fit.strength.r2)}, adjusted {without_zero(fit.strength.r2_adjusted)}"
    return f"{rows}. {whole}; {shown}. {_errors(fit)}."


def _errors(fit: AnyFit) -> str:
    """Say what errors rest on, and which levels were taken out."""
    words = fit.errors.words.replace("`", "")
    if fit.fixed_effect_names:
        words += f". All levels of {listed(fit.fixed_effect_names)} are in the model and not listed"
    return words[0].upper() + words[1:]


def _steps_layout(hierarchy: Blocks) -> Layout:
    fit, names = hierarchy.last, list(hierarchy.names)
    rows = _side_by_side(_told(fit), names, hierarchy.moves, {n: hierarchy.errors[n] for n in names})
    steps = list(rows_of(hierarchy.steps))
    if hierarchy.logistic:
        rows.append(("group", ["Deviance", *(number(s.deviance, 1) for s in steps)]))
        rows.append(("plain", ["McFadden", *(without_zero(s.mcfadden) for s in steps)]))
    else:
        measure = "R² within levels" if fit.fixed_effect_names else "R²"
        rows.append(("group", [measure, *(without_zero(s.r2) for s in steps)]))
        rows.append(("plain", ["Change of R²", *(without_zero(s.r2_change) for s in steps)]))
    sign = "chi²" if hierarchy.logistic else "F"
    rows.append(("plain", [f"{sign} of the change", *(f"{number(s.statistic, 2)}" for s in steps)]))
    rows.append(
        ("plain", ["df", *(f"{s.df}" + ("" if math.isinf(s.df_rest) else f", {s.df_rest:.0f}") for s in steps)])
    )
    rows.append(("plain", ["p", *(p_value(s.p) for s in steps)]))
    note = (
        f"{_in_brackets(fit)} All columns on the same {fit.sample.used:,} of {fit.sample.rows:,} rows. {_errors(fit)}."
    )
    return Layout(f"{fit.explained}, block by block", ["", *names], rows, note)


def _variants_layout(comparison: Comparison) -> Layout:
    names, fits = list(comparison.names), comparison.fits
    told: list[dict[str, Any]] = []
    for fit in fits:  # terms that come with a later fit stand behind those of the earlier ones
        seen = {(r["row"].term, r["kind"], r["name"]) for r in told}
        told += [r for r in _told(fit) if (r["row"].term, r["kind"], r["name"]) not in seen]
    rows = _side_by_side(told, names, comparison.estimates, {n: comparison.estimates[f"se of {n}"] for n in names})
    figures = {"r2": "R²", "r2_adjusted": "Adjusted R²", "mcfadden": "McFadden", "aic": "AIC", "bic": "BIC"}
    for key, words in figures.items():
        if key in comparison.strength and comparison.same_outcome:
            values = comparison.strength[key]
            shown = [number(v, 1) if key in ("aic", "bic") else without_zero(v) for v in values]
            rows.append(("plain", [words, *shown]))
    note = f"{_in_brackets(fits[0])} All columns on the same {comparison.rows:,} rows. "
    note += " ".join(f"{n}: {_errors(f)[0].lower()}{_errors(f)[1:]}." for n, f in zip(names, fits, strict=True))
    explained = " and ".join(dict.fromkeys(f.explained for f in fits))
    return Layout(f"{explained}: {len(fits)} models side by side", ["", *names], rows, note)


def _side_by_side(
    told: Sequence[dict[str, Any]], names: Sequence[str], values: pd.DataFrame, errors: Mapping[str, pd.Series[Any]]
) -> list[tuple[str, list[str]]]:
    """Return a row a coefficient, a column a model: the estimate, and its standard error in brackets."""
    places = {key: k for k, key in enumerate(zip(values["term"], values["level"], strict=True))}
    rows: list[tuple[str, list[str]]] = []
    for r in told:
        if r["kind"] == "group":
            rows.append(("group", [r["name"], *[""] * len(names)]))
            continue
        k = places[r["row"].term, r["row"].level]
        cells = []
        for name in names:
            value, se = float(values[name].iloc[k]), float(errors[name].iloc[k])
            if math.isnan(value):
                cells.append("")
            elif r["kind"] == "base":
                cells.append("base")
            else:
                decimals = decimals_for(se)
                cells.append(f"{number(value, decimals)} ({number(se, decimals)})")
        rows.append((r["kind"], [r["name"], *cells]))
    return rows


def _in_brackets(fit: AnyFit) -> str:
    return f"{'Log odds' if isinstance(fit, LogisticFit) else 'Estimates'} with standard errors in brackets."


def _levels_layout(fit: AnyFit, group: str) -> Layout:
    points, factor, table = fit.family is LOGISTIC, fit.family.factor, fit.groups(group)
    percent = f"{short(100 * fit.level, 4)}% CI"
    heads = ["", "n", "Rate, %" if points else "Mean", "Adjusted, %" if points else "Adjusted", percent]
    heads += ["Difference, points" if points else "Difference", percent, "p"]
    decimals = min(
        min((decimals_for(factor * float(r.se)) for r in rows_of(table) if not r.base), default=2), 1 if points else 6
    )
    decimals = max(decimals, 1)
    rows: list[tuple[str, list[str]]] = []
    for r in rows_of(table):
        cells = [
            str(r.level),
            f"{int(r.n):,}",
            number(factor * r.plain, decimals),
            number(factor * r.adjusted, decimals),
        ]
        cells.append(f"{number(factor * r.adjusted_low, decimals)} to {number(factor * r.adjusted_high, decimals)}")
        if r.base:
            rows.append(("base", [*cells, "base", "", ""]))
            continue
        size, *ends = value_with_ends(factor * r.difference, factor * r.low, factor * r.high, decimals)
        rows.append(("plain", [*cells, size, from_to(*ends), p_value(r.p)]))
    test = fit.terms[fit.terms["term"] == group]
    joint = f"All levels together: {p_phrase(float(test['p'].iloc[0]))}. " if len(test) else ""
    others = [t.name for t in fit.model_terms if group not in t.names]
    held = f" with {listed(others)} as they are" if others else ""
    what = "probabilities" if points else "means"
    note = f"Adjusted {what}: if all rows had this level{held}. Differences are from the base; their p are not corrected for one another. {joint}{_note(fit)}"
    told = f"Probability of {fit.outcome.name} = {fit.event}" if isinstance(fit, LogisticFit) else fit.outcome.name
    return Layout(f"{told}, by {group}", heads, rows, note)


def _associations_layout(screen: Screen) -> Layout:
    columns = [c for c in (screen.outcome, *(t.column for t in screen.basis.terms)) if c is not None]
    used, values = screen.basis.used, screen.among.values
    rows: list[tuple[str, list[str]]] = []
    for k, column in enumerate(columns):
        mean = sd = ""
        name = column.name
        if not column.is_categorical or len(column.levels) == 2:
            inside = (column.values if used is None else column.values[used]).astype(np.float64)
            decimals = decimals_for(float(inside.std(ddof=1)) or 1.0, 3)
            mean, sd = number(float(inside.mean()), decimals), number(float(inside.std(ddof=1)), decimals)
            if column.is_categorical:
                name = f"{name} (1: {column.levels[1].label})"
        cells = [
            without_zero(float(values[k, j]), 2) if j < k else "–" if j == k else "" for j in range(len(columns) - 1)
        ]
        rows.append(("plain", [f"{k + 1}. {name}", mean, sd, *cells]))
    heads = ["", "M", "SD", *(str(k + 1) for k in range(len(columns) - 1))]
    return Layout("Means, standard deviations and associations", heads, rows, _about_associations(screen))


def _about_associations(screen: Screen) -> str:
    """Say which measures a table of associations holds, on which rows."""
    kinds = {name for row in screen.among.measures for name in row if name}
    words = {
        "r": "Spearman's r of ranks" if screen.method == "spearman" else "Pearson's r",
        "point-biserial r": "point-biserial r with a group of two levels",
        "phi": "phi of two such groups",
        "correlation ratio": "the correlation ratio, without a sign, with a group of more levels",
        "Cramér's V": "Cramér's V, without a sign, of two groups",
    }
    note = "; ".join(w for k, w in words.items() if k in kinds) + "."
    n = screen.sample.used
    rows = f"n = {n:,} of {screen.sample.rows:,} rows, those with a value in every column"
    if screen.rows == "pairwise":
        low, high = int(screen.among.rows.min()), int(screen.among.rows.max())
        return f"{note} Each on the rows that have both, {low:,} to {high:,}; M and SD on {rows}."
    if n > 3 and screen.method == "pearson":
        t = float(t_quantile(0.95, n - 2))
        note += (
            f" An r further from 0 than {without_zero(t / math.sqrt(n - 2 + t * t), 3)} has p < .05, taken by itself."
        )
    return f"{note[0].upper()}{note[1:]} {rows}."
