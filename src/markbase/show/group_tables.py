"""Groups read: levels with their base, pairs of levels, cells of two groups, planned comparisons."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
import pandas as pd

from markbase.core.formatting import (
    decimals_for,
    figures_of,
    from_to,
    number,
    p_phrase,
    p_value,
    plain,
    ratio,
    ratio_decimals,
    ratio_with_ends,
    share_decimals,
    short,
    value_with_ends,
)
from markbase.core.inference.corrections import STEP_BY_STEP, WITH_ONE_LEVEL
from markbase.core.reading.clauses import overstated_words
from markbase.core.reading.group_cautions import about_clusters, about_reversals
from markbase.core.reading.interaction_sentences import about_averages
from markbase.core.reading.outcome_cautions import about_beginning
from markbase.core.reading.overlap_words import about_held, about_pairs
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.cell_means import overstated_effects
from markbase.core.results.stored_fit import StoredFit
from markbase.core.tables import records_of, rows_of
from markbase.show.equivalence import MOST_PAIRS, equivalence_section
from markbase.show.few_of_many import few_of
from markbase.show.page import Block, Facts, Row, Section, Sentences, Strip, Table
from markbase.show.statistics import Entry, Statistic, laid_out, scale_of, scale_over

_CORRECTED = {
    "benjamini-hochberg": "corrected after Benjamini and Hochberg, for the share of chance findings among what is clear, not for any at all; intervals each by itself",
    "holm": "corrected after Holm; intervals each by itself",
    "bonferroni": "corrected after Bonferroni; intervals hold together",
    "tukey": "corrected after Tukey and Kramer; intervals hold together",
    "dunnett": "corrected after Dunnett, for these comparisons together; intervals hold together",
    "scheffe": "corrected after Scheffé, for any comparison of these levels; intervals hold together",
    "none": "not corrected: each by itself",
}


def _tested_alone(fit: AnyFit | StoredFit, group: str) -> bool:
    """Return whether the test of a term is that of all differences of a group, since no interaction has it."""
    return [t.names for t in fit.model_terms if group in t.names] == [(group,)]


def joint_p(fit: AnyFit | StoredFit, group: str, at: Mapping[str, float] | None = None) -> float:
    """Return the p of all differences of the levels of a group together, as they stand in its table."""
    if _tested_alone(fit, group):
        return float(fit.terms.loc[fit.terms["term"] == group, "p"].iloc[0])
    # the differences depend on other columns: the term would be tested at one value of these
    return fit.group_test(group, at=at).p


def groups_section(fit: AnyFit | StoredFit, group: str, at: Mapping[str, float] | None = None) -> Section:
    """Describe the levels of a group: rows, mean or rate, adjusted mean or probability, difference from the base."""
    p = joint_p(fit, group, at)
    joint = "" if math.isnan(p) else f"joint test {p_phrase(p)}; "
    if at:
        joint += f"at {', '.join(f'{name} = {plain(value, 6)}' for name, value in at.items())}; "
    note = f"{joint}adjusted: if all rows had this level and were otherwise as they are"
    if fit.family.shares:
        note = f"{joint}{fit.family.observed(fit.outcome)}; adjusted: as if all rows had this level"
    variable = fit.variable(group, "categorical")
    own = fit.coefficients[(fit.coefficients["term"] == group) & ~fit.coefficients["base"]]
    minded = about_averages(fit, group, at or {})
    if not isinstance(fit, StoredFit):  # of which the rows that have a level, and like ones, are not known
        minded += [*about_clusters(fit, variable), *about_pairs(fit, variable), *about_held(fit, variable, at or {})]
        minded += about_beginning(fit, group)
    minded += about_reversals(fit, variable, records_of(own)).values()
    if _tested_alone(fit, group) and (overstated := fit._overstated.get(group)):
        minded = [f"the joint test: {overstated_words(fit, overstated)}", *minded]
    facts = tuple(("mind", words) for words in minded)
    blocks = (levels_table(fit, group, at), *((Facts(facts),) if facts else ()))
    return Section(f"The levels of {group}", note, blocks)


def levels_table(
    fit: AnyFit | StoredFit, group: str, at: Mapping[str, float] | None = None, *, formal: bool = False
) -> Table:
    """Return the levels of a group, the base marked; the arguments are those of `groups_section` and `coefficients_table`."""
    table = rows_of(fit.groups(group, at=at))
    points, factor = fit.family.shares, fit.family.factor
    decimals = decimals_for(min([float(r.se) * factor for r in table if not r.base] or [1.0]))
    if points:
        decimals = min(decimals, max(1, *(share_decimals(float(v)) for r in table for v in (r.plain, r.adjusted))))
    scale = scale_over(table)

    def value(figure: float) -> str:
        return number(factor * figure, max(decimals, 1) if decimals >= 0 else decimals)

    def ends(r: Any) -> tuple[str, str, str]:
        return value_with_ends(factor * r.difference, factor * r.low, factor * r.high, decimals)

    percent = f"{short(100 * fit.level, 4)}% CI"
    what = ("rate %", "adjusted %", "points") if points else ("mean", "adjusted", "difference")
    formally = ("Rate, %", "Adjusted, %", "Difference, points") if points else ("Mean", "Adjusted", "Difference")
    always = (
        Statistic("n", "rows", "n", lambda r: f"{int(r.n):,}"),
        Statistic("plain", what[0], formally[0], lambda r: value(r.plain)),
        Statistic("adjusted", what[1], formally[1], lambda r: value(r.adjusted)),
        Statistic("about", "", percent, lambda r: from_to(value(r.adjusted_low), value(r.adjusted_high))),
    )
    compared = (
        Statistic("difference", what[2], formally[2], lambda r: ends(r)[0]),
        Statistic("interval", percent, percent, lambda r: from_to(*ends(r)[1:])),
        Statistic("p", "p", "p", lambda r: p_value(r.p)),
    )
    entries = []
    for r in table:
        strip = Strip(float(r.low), float(r.difference), float(r.high), *scale, is_base=bool(r.base))
        given = {s.key: s.text(r) for s in always} | {"difference": "0", "interval": "base"} if r.base else {}
        entries.append(Entry(str(r.level), "base" if r.base else "plain", r, given, strip))
    return laid_out(group, (*always, *compared), entries, formal=formal, strip_head="lower ┊ higher")


def pairs_section(
    fit: AnyFit | StoredFit,
    group: str,
    correction: str = "holm",
    at: Mapping[str, float] | None = None,
    against: str | None = None,
) -> Section:
    """Describe every pair of levels of a group, or each with one of them, a row a pair."""
    table = fit.between(group, correction, against=against, at=at)
    return compared_section(fit, table, _title(fit, group, correction, at, against), correction)


def _title(
    fit: AnyFit | StoredFit, group: str, correction: str, at: Mapping[str, float] | None, against: str | None
) -> str:
    """Say which levels of a group are compared with which."""
    if against is None and correction in WITH_ONE_LEVEL:
        against = fit.variable(group, "categorical").base_label
    what = f"Every pair of {group}" if against is None else f"Levels of {group} against {against}"
    return what + _held(at)


def margin_section(
    fit: AnyFit | StoredFit,
    group: str,
    margin: float,
    correction: str = "holm",
    at: Mapping[str, float] | None = None,
    against: str | None = None,
) -> Section:
    """Say of every pair of levels of a group, or of each with one of them, whether it differs by less than would matter, or by more."""
    table = fit.between(group, correction, against=against, at=at, margin=margin)
    return equivalence_section(fit, table, margin, correction, _title(fit, group, correction, at, against))


def pairs_grid(fit: AnyFit | StoredFit, group: str, correction: str = "holm") -> Section:
    """Describe every pair of levels of a group as a grid.

    Below the diagonal the row compared with the column, above it the p of the same pair.
    """
    odds = fit.family.ratios
    sizes = fit.between_grid(group, correction, "odds_ratio" if odds else "difference").to_numpy()
    errors = fit.between_grid(group, correction, "se").to_numpy()
    chances = fit.between_grid(group, correction, "p" if correction == "none" else "p_corrected").to_numpy()
    labels, decimals = fit.variable(group, "categorical").labels, decimals_for(np.nanmin(errors, initial=np.inf))

    def cell(row: int, column: int) -> str:
        if row == column:
            return "·"
        if row < column:
            return p_value(chances[row, column])
        size = float(sizes[row, column])
        return ratio(size, ratio_decimals(size, errors[row, column])) if odds else number(size, decimals)

    places = range(len(labels))
    rows = tuple(Row((label, *(cell(row, column) for column in places))) for row, label in enumerate(labels))
    size = "odds ratio, row to column" if odds else f"difference, row less column ({fit.outcome.step_many})"
    kind = "p" if correction == "none" else f"p, {_CORRECTED[correction].partition(';')[0].partition(',')[0]}"
    drawn = Table((group, *labels), rows, frozenset(range(1, len(labels) + 1)))
    return Section(f"Every pair of {group} as a grid", f"below the dots: {size}; above them: {kind}", (drawn,))


def cells_sections(fit: AnyFit | StoredFit, first: str, second: str, correction: str = "holm") -> list[Section]:
    """Describe two groups crossed: the adjusted mean of every combination that rows have, and the pairs within each level."""
    means, pairs = fit.cell_means(first, second, correction=correction)
    shares, factor = fit.family.shares, fit.family.factor
    decimals = decimals_for(factor * float(means["se"].min()))
    if shares:
        decimals = min(decimals, max(1, *(share_decimals(v) for v in means["adjusted"].tolist())))
    rows = []
    for r in records_of(means):
        value, low, high = (factor * float(r[k]) for k in ("adjusted", "low", "high"))
        cells = (
            str(r[first]),
            str(r[second]),
            f"{r['n']:,}",
            number(value, decimals),
            from_to(number(low, decimals), number(high, decimals)),
        )
        rows.append(Row(cells))
    heads = (first, second, "rows", "probability, %" if shares else "adjusted mean", f"{short(100 * fit.level, 4)}% CI")
    together = next((t for t in fit.model_terms if set(t.names) == {first, second} and len(t.groups) == 2), None)
    deeper = any({first, second} < set(t.names) for t in fit.model_terms)
    note = f"{fit.family.adjusted(fit.outcome)}; as if all rows had both levels and were otherwise as they are"
    if together is not None:
        p = fit.terms.set_index("term")["p"].get(together.name, math.nan)
        note += "" if math.isnan(p) or deeper else f"; test of the interaction {p_phrase(p)}"
    depends = deeper or together is not None
    if not depends:
        note += "; their interaction is not a term: the difference between two levels is the same at every level of the other"
    table = Table(heads, tuple(rows), frozenset({2, 3, 4}), wide=-1)
    sections = [Section(f"{first} and {second} together", note, (table,))]
    if depends:
        sections.append(_effects_section(fit, first, second, together is not None and not deeper))
    for of, other in ((first, second), (second, first)):
        own = pairs[pairs["of"] == of] if len(pairs) else pairs
        if not depends:
            title = f"{_title(fit, of, correction, None, None)}, at whichever level of {other}"
            sections.append(compared_section(fit, own, title, correction))
        elif len(own):
            told = own.assign(level=[f"{r.within}: {r.level}" for r in rows_of(own)])
            found = compared_section(fit, told, f"Pairs of {of} within each level of {other}", correction)
            scope = ""
            if correction != "none":
                scope = "all of this table together, " if correction in STEP_BY_STEP else "within each level, "
            sections.append(replace(found, note=scope + found.note))
    return sections


def _effects_section(fit: AnyFit | StoredFit, first: str, second: str, tested: bool) -> Section:
    """Describe the joint tests of each of two groups within every level of the other."""
    told = pd.concat([fit.simple_effects(of, by=by) for of, by in ((first, second), (second, first))])
    others = [second] * fit.variable(second, "categorical").size + [first] * fit.variable(first, "categorical").size
    rows = [
        Row((f"{r.of}, where {other} is {r.within}", _test_text(r), p_value(r.p)))
        for r, other in zip(rows_of(told), others, strict=True)
    ]
    words = "Clear within one level and not within another is no evidence that the effects differ"
    words += (
        ": that is what the test of the interaction says." if tested else "; that is what interactions are tested for."
    )
    minded = [
        ("mind", f"differences of {of}, where {other} is `{within}`: {overstated_words(fit, test)}")
        for of, other in ((first, second), (second, first))
        for within, test in (overstated_effects(fit, of, other).items() if tested else ())
    ]
    table = Table(("differences of", "test", "p"), tuple(rows), frozenset({2}))
    blocks: tuple[Block, ...] = (Facts(tuple(minded)),) if minded else ()
    blocks = (table, *blocks, Sentences(((words, ()),)))
    note = "all levels of one group within a level of the other, p each by itself"
    return Section("Simple effects", note + ("; of log odds" if fit.family.ratios else ""), blocks)


def _test_text(test: Any) -> str:
    if math.isnan(test.statistic):
        return "–"
    return figures_of(test.statistic, test.df, test.df_rest, "Wald")


def planned_sections(
    fit: AnyFit | StoredFit,
    group: str,
    comparisons: Mapping[str, Mapping[str, float]] | Sequence[str],
    correction: str = "none",
    at: Mapping[str, float] | None = None,
    margin: float | None = None,
) -> list[Section]:
    """Describe planned comparisons of the levels of a group, with a margin also held against it; the arguments are those of `planned`."""
    table = fit.planned(group, comparisons, correction, at=at, margin=margin)
    if isinstance(comparisons, Mapping):  # a name alone does not say what is taken from what
        ahead = [" + ".join(str(v) for v, weight in own.items() if weight > 0) for own in comparisons.values()]
        table["level"] = [f"{name}: {levels}" for name, levels in zip(comparisons, ahead, strict=True)]
    title = f"Planned comparisons of {group}{_held(at)}"
    held = [] if margin is None else [equivalence_section(fit, table, margin, correction, title)]
    return [compared_section(fit, table, title, correction), *held]


def _held(at: Mapping[str, float] | None) -> str:
    return f" at {', '.join(f'{name} = {plain(value, 6)}' for name, value in at.items())}" if at else ""


def compared_section(fit: AnyFit | StoredFit, table, title: str, correction: str) -> Section:  # type: ignore[no-untyped-def]
    """Describe comparisons as `between` and `planned` return them."""
    scale = scale_of(float(table["low"].min()), float(table["high"].max()))
    decimals, rows = decimals_for(float(table["se"].min())), []
    clearest, told = few_of(table, "p", "clearest", "pairs", most=MOST_PAIRS, ascending=True)
    for r in rows_of(clearest):
        strip = Strip(float(r.low), float(r.difference), float(r.high), *scale)
        name = f"{r.level} against {r.against}"
        if fit.family.ratios:
            size, *ends = ratio_with_ends(r.odds_ratio, r.odds_low, r.odds_high, r.se)
        else:
            size, *ends = value_with_ends(r.difference, r.low, r.high, decimals)
        interval = from_to(*ends)
        corrected = () if correction == "none" else (p_value(r.p_corrected),)
        rows.append(Row((name, size, interval, p_value(r.p), *corrected), "plain", strip))
    size = "odds ratio" if fit.family.ratios else f"difference ({fit.outcome.step_many})"
    heads = ["pair", size, f"{short(100 * fit.level, 4)}% CI", "p"]
    heads += [] if correction == "none" else ["p corrected"]
    drawn = Table(tuple(heads), tuple(rows), frozenset(range(1, len(heads))), 0, "lower ┊ higher")
    minded = fit._not_profiled(len(table))
    blocks = (drawn, Facts((("mind", minded),))) if minded else (drawn,)
    return Section(title, _CORRECTED[correction] + told, blocks)
