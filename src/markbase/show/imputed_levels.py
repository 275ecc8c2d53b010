"""Levels, pairs and simple slopes of a model over several imputations, combined."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import replace

import pandas as pd

from markbase.core.comparison.imputations import Imputations
from markbase.core.errors import listed
from markbase.core.formatting import (
    decimals_for,
    figures_of,
    from_to,
    p_phrase,
    p_value,
    ratio_with_ends,
    short,
    value_with_ends,
)
from markbase.core.reading.interaction_sentences import average_words
from markbase.core.tables import rows_of
from markbase.show.page import Facts, Row, Section, Sentences, Table
from markbase.show.slope_tables import differing_facts, slope_rows

INFINITE = 1e5
"""So many degrees of freedom, and more, are written as infinite."""
Slopes = Sequence[tuple[str, str | None]]
"""Numeric columns whose slopes are told, each with its moderator."""
Places = Mapping[str, Sequence[float]]
"""Where numeric columns are held."""


def group_section_over(found: Imputations, group: str, correction: str) -> Section:
    """Describe every level of a group, and every pair of them."""
    heading = f"The levels of {group}, and every pair"
    if reason := found.not_averaged(group):
        return Section(heading, blocks=(Sentences(((reason, ()),)),))
    factor, fit = found.family.factor, found.fit
    levels = []
    for r in rows_of(found.groups(group)):
        decimals = decimals_for((r.adjusted_high - r.adjusted_low) * factor / 4)
        at = value_with_ends(factor * r.adjusted, factor * r.adjusted_low, factor * r.adjusted_high, decimals)
        if r.base:
            levels.append(Row((r.level, f"{round(r.n):,}", at[0], from_to(*at[1:]), "0", "base", ""), "base"))
            continue
        told = value_with_ends(factor * r.difference, factor * r.low, factor * r.high, decimals_for(factor * r.se))
        levels.append(
            Row((r.level, f"{round(r.n):,}", at[0], from_to(*at[1:]), told[0], from_to(*told[1:]), p_value(r.p)))
        )
    percent = f"{short(100 * found.level, 4)}% CI"
    heads = ("level", "rows", "adjusted", percent, "difference", percent, "p")
    table = Table(heads, tuple(levels), frozenset(range(1, 7)), 0)
    adjusted = fit.family.adjusted(fit.outcome)
    rows = "; rows: means" if found.by else ""
    note = f"{adjusted}; adjusted: as if all rows had this level; differences from the base{rows}"
    minded = tuple(("mind", words) for words in _about_averages(found, group))
    return Section(heading, note, (table, *([Facts(minded)] if minded else []), _pairs(found, group, correction)))


def slopes_section_over(found: Imputations, numeric: str, by: str | None, at: Places | None) -> Section:
    """Describe simple slopes of a numeric column, at chosen values or within the levels of a group."""
    fit, table = found.fit, found.simple_slopes(numeric, by=by, at=at)
    held, _, told = slope_rows(table, by)
    df = [f"{v:,.0f}" if v < INFINITE else "∞" for v in table["df"]]
    rows = [replace(row, cells=(*row.cells, own)) for row, own in zip(told, df, strict=True)]
    heads = ("where", "slope", "se", f"{short(100 * found.level, 4)}% CI", "p", "df")
    step = fit.variable(numeric, "numeric").column.step_one
    chosen = [name for name in held if name not in (at or {})]
    both = [name for name in chosen if fit.variable(name, "numeric").column.two_values is not None]
    rest = [name for name in chosen if name not in both]
    middle = f"{listed(both)} at both values; " if both else ""
    middle += f"{listed(rest)} at the mean and a standard deviation below and above, inside the rows; " if rest else ""
    note = f"in {fit.family.scale(fit.outcome)} per {step}; {middle}what is not named is averaged over the rows"
    facts = _whether_they_differ(found, numeric, by, table)
    if fit.family.shares:
        facts.append(("mind", "a slope, or a difference of slopes, in log odds is not one in probability"))
    other = [f"`{n}`" for n in fit.slope_depends_on(numeric) if n not in (numeric, by, *held)]
    if other:
        words = f"in this model the slope differs by {listed(other)}{' as well' if by or held else ''}: here it is averaged over the rows"
        facts.append(("mind", words))
    blocks = (Table(heads, tuple(rows), frozenset(range(1, 6)), 0, "lower ┊ higher"),)
    title = f"Simple slopes of {numeric}" + (f" by {by}" if by else "")
    return Section(title, note, (*blocks, *([Facts(tuple(facts))] if facts else [])))


def _whether_they_differ(
    found: Imputations, numeric: str, by: str | None, table: pd.DataFrame
) -> list[tuple[str, str]]:
    """Say what the test of the interaction tells of slopes that stand side by side; nothing where none is of them alone."""
    told = [t for t in found.model_terms if by and {numeric, by} <= set(t.names)]
    if [set(t.names) for t in told] != [{numeric, by}]:
        return []
    test = next(r for r in rows_of(found.terms) if r.term == told[0].name)
    if math.isnan(test.p):
        return []
    figures = f"{figures_of(test.statistic, test.df, test.df_rest, 'Wald')}, {p_phrase(test.p)}"
    sure = bool(test.p < found.fit.alpha)
    words = f"{figures}: they do" if sure else f"{figures}: no clear evidence that they do"
    return differing_facts(f"do they differ by {by}", words, sure, table["p"] < found.fit.alpha)


def _about_averages(found: Imputations, group: str) -> list[str]:
    """Say which interactions of a group are clear, so that differences told of it are averages."""
    told, tests = [], {r.term: r for r in rows_of(found.terms)}
    for term in found.model_terms:
        others, test = [name for name in term.names if name != group], tests[term.name]
        if group in term.names and others and test.p < found.fit.alpha:
            figures = f"{figures_of(test.statistic, test.df, test.df_rest, 'Wald')}, {p_phrase(test.p)}"
            told.append(average_words(found.fit, term, group, figures))
    return told


def _pairs(found: Imputations, group: str, correction: str) -> Table:
    ratios = found.family.ratios
    rows = []
    for r in rows_of(found.between(group, correction)):
        if ratios:
            told = ratio_with_ends(r.odds_ratio, r.odds_low, r.odds_high, r.se)
        else:
            told = value_with_ends(r.difference, r.low, r.high, decimals_for(r.se))
        size = told[0], from_to(*told[1:])
        rows.append(Row((f"{r.level} against {r.against}", *size, p_value(r.p), p_value(r.p_corrected))))
    what = "odds ratio" if ratios else "difference"
    heads = ("pair", what, f"{short(100 * found.level, 4)}% CI", "p", f"p, {correction}")
    return Table(heads, tuple(rows), frozenset({1, 2, 3, 4}), 0)
