"""Groups read: levels with their base, pairs, lines, the guided list."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
import pandas as pd

from markbase.core.errors import count_noun, listed
from markbase.core.formatting import (
    decimals_for,
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
from markbase.core.reading.group_cautions import about_clusters
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.family import LOGISTIC
from markbase.core.results.logistic import LogisticFit
from markbase.core.results.statements import Guide, Lines
from markbase.core.tables import rows_of
from markbase.show.equation import summands
from markbase.show.page import Facts, Formula, Page, Row, Section, Sentences, Strip, Table
from markbase.show.statistics import Entry, Statistic, laid_out, scale_of, scale_over

_CORRECTED = {
    "holm": "corrected after Holm; intervals each by itself",
    "bonferroni": "corrected after Bonferroni; intervals hold together",
    "tukey": "corrected after Tukey and Kramer; intervals hold together",
    "none": "not corrected: each by itself",
}


def groups_section(fit: AnyFit, group: str, at: Mapping[str, float] | None = None) -> Section:
    """Describe the levels of a group: rows, mean or rate, adjusted mean or probability, difference from the base.

    Parameters
    ----------
    fit : LinearFit or LogisticFit
        The fit.
    group : str
        A group of the model.
    at : mapping of str to float, optional
        Where numeric columns are held.

    Returns
    -------
    Section
        A row a level, the base marked.
    """
    alone = not any(group in t.names and len(t.names) > 1 for t in fit.model_terms)
    if alone and group in set(fit.terms["term"]):
        p = float(fit.terms.loc[fit.terms["term"] == group, "p"].iloc[0])
    else:  # the differences depend on other columns: the test is of those that stand below
        p = fit.group_test(group, at=at).p
    joint = "" if math.isnan(p) else f"joint test {p_phrase(p)}; "
    if at:
        joint += f"at {', '.join(f'{name} = {plain(value, 6)}' for name, value in at.items())}; "
    note = f"{joint}adjusted: if all rows had this level and were otherwise as they are"
    if isinstance(fit, LogisticFit):
        note = f"{joint}{fit.outcome.name} = {fit.event}; adjusted: as if all rows had this level"
    facts = tuple(("mind", words) for words in about_clusters(fit, fit.variable(group, "categorical")))
    blocks = (levels_table(fit, group, at), *((Facts(facts),) if facts else ()))
    return Section(f"The levels of {group}", note, blocks)


def levels_table(fit: AnyFit, group: str, at: Mapping[str, float] | None = None, *, formal: bool = False) -> Table:
    """Return the levels of a group, the base marked; the arguments are those of `groups_section` and `coefficients_table`."""
    table = list(rows_of(fit.groups(group, at=at)))
    points, factor = fit.family is LOGISTIC, fit.family.factor
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


def pairs_section(fit: AnyFit, group: str, correction: str = "holm", at: Mapping[str, float] | None = None) -> Section:
    """Describe every pair of levels of a group.

    Parameters
    ----------
    fit : LinearFit or LogisticFit
        The fit.
    group : str
        A group of the model.
    correction : str
        As for `between`.
    at : mapping of str to float, optional
        Where numeric columns are held.

    Returns
    -------
    Section
        A row a pair.
    """
    title = f"Every pair of {group}{_held(at)}"
    return compared_section(fit, fit.between(group, correction, at=at), title, correction)


def pairs_grid(fit: AnyFit, group: str, correction: str = "holm") -> Section:
    """Describe every pair of levels of a group as a grid.

    Parameters
    ----------
    fit : LinearFit or LogisticFit
        The fit.
    group : str
        A group of the model.
    correction : str
        As for `between`.

    Returns
    -------
    Section
        A row and a column a level: below the diagonal the row compared with the column, above it the p of the same pair.
    """
    odds = fit.family is LOGISTIC
    sizes = fit.between_grid(group, correction, "odds_ratio" if odds else "difference").to_numpy()
    errors = fit.between_grid(group, correction, "se").to_numpy()
    chances = fit.between_grid(group, correction, "p" if correction == "none" else "p_corrected").to_numpy()
    labels, decimals = fit.variable(group, "categorical").labels, decimals_for(float(np.nanmin(errors)))

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
    kind = "p" if correction == "none" else f"p, corrected after {correction.capitalize()}"
    drawn = Table((group, *labels), rows, frozenset(range(1, len(labels) + 1)))
    return Section(f"Every pair of {group} as a grid", f"below the dots: {size}; above them: {kind}", (drawn,))


def cells_sections(fit: AnyFit, first: str, second: str, correction: str = "holm") -> list[Section]:
    """Describe two groups crossed: the adjusted mean of every combination that rows have, and the pairs within each level.

    Parameters
    ----------
    fit : LinearFit or LogisticFit
        The fit.
    first, second : str
        Two groups of the model.
    correction : str
        Of the p of the pairs, as for `between`.

    Returns
    -------
    list of Section
        The means, or probabilities, then the pairs.
    """
    means, pairs = fit.cell_means(first, second, correction=correction)
    odds = fit.family is LOGISTIC
    factor = fit.family.factor
    decimals = decimals_for(factor * float(means["se"].min()))
    if odds:
        decimals = min(decimals, max(1, *(share_decimals(v) for v in means["adjusted"].tolist())))
    rows = []
    for r in means.to_dict("records"):
        value, low, high = (factor * float(r[k]) for k in ("adjusted", "low", "high"))
        cells = (
            str(r[first]),
            str(r[second]),
            f"{r['n']:,}",
            number(value, decimals),
            from_to(number(low, decimals), number(high, decimals)),
        )
        rows.append(Row(cells))
    heads = (first, second, "rows", "probability, %" if odds else "adjusted mean", f"{short(100 * fit.level, 4)}% CI")
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
    for of, other in ((first, second), (second, first)):
        own = pairs[pairs["of"] == of] if len(pairs) else pairs
        if not depends:
            sections.append(
                compared_section(fit, own, f"Every pair of {of}, at whichever level of {other}", correction)
            )
        elif len(own):
            told = own.assign(level=[f"{r.within}: {r.level}" for r in rows_of(own)])
            found = compared_section(fit, told, f"Pairs of {of} within each level of {other}", correction)
            scope = (
                ""
                if correction == "none"
                else "within each level, "
                if correction == "tukey"
                else "all of this table together, "
            )
            sections.append(replace(found, note=scope + found.note))
    return sections


def planned_section(
    fit: AnyFit,
    group: str,
    comparisons: Mapping[str, Mapping[str, float]] | Sequence[str],
    correction: str = "none",
    at: Mapping[str, float] | None = None,
) -> Section:
    """Describe planned comparisons of the levels of a group; the arguments are those of `planned`."""
    table = fit.planned(group, comparisons, correction, at=at)
    if isinstance(comparisons, Mapping):  # a name alone does not say what is taken from what
        ahead = [" + ".join(str(v) for v, weight in own.items() if weight > 0) for own in comparisons.values()]
        table["level"] = [f"{name}: {levels}" for name, levels in zip(comparisons, ahead, strict=True)]
    return compared_section(fit, table, f"Planned comparisons of {group}{_held(at)}", correction)


def _held(at: Mapping[str, float] | None) -> str:
    return f" at {', '.join(f'{name} = {plain(value, 6)}' for name, value in at.items())}" if at else ""


def compared_section(fit: AnyFit, table, title: str, correction: str) -> Section:  # type: ignore[no-untyped-def]
    """Describe comparisons as `between` and `planned` return them."""
    scale = scale_of(float(table["low"].min()), float(table["high"].max()))
    decimals, rows = decimals_for(float(table["se"].min())), []
    for r in rows_of(table):
        strip = Strip(float(r.low), float(r.difference), float(r.high), *scale)
        name = f"{r.level} against {r.against}"
        if isinstance(fit, LogisticFit):
            size, *ends = ratio_with_ends(r.odds_ratio, r.odds_low, r.odds_high, r.se)
        else:
            size, *ends = value_with_ends(r.difference, r.low, r.high, decimals)
        interval = from_to(*ends)
        corrected = () if correction == "none" else (p_value(r.p_corrected),)
        rows.append(Row((name, size, interval, p_value(r.p), *corrected), "plain", strip))
    size = "odds ratio" if isinstance(fit, LogisticFit) else f"difference ({fit.outcome.step_many})"
    heads = ["pair", size, f"{short(100 * fit.level, 4)}% CI", "p"]
    heads += [] if correction == "none" else ["p corrected"]
    right = frozenset(range(1, len(heads)))
    return Section(title, _CORRECTED[correction], (Table(tuple(heads), tuple(rows), right, 0, "lower ┊ higher"),))


def _of_what(by: str | None, rows: int) -> str:
    return "an interaction" if by else "a bend" if rows > 1 else "a slope"


def guide_page(guide: Guide) -> Page:
    """Describe a guided list."""
    return Page("Going through the fit", sections=(guide_section(guide),))


def guide_section(guide: Guide) -> Section:
    """Describe a guided list as a section."""
    lines = tuple((f"`{s.question}` {s.answer}. {s.meaning}", ()) for s in guide.steps)
    return Section("Going through it, in order", blocks=(Sentences(lines),))


def lines_page(lines: Lines) -> Page:
    """Describe an equation with a line for each level of a group."""
    blocks: list[Facts | Formula] = []
    for level, equation in lines.lines:
        blocks += [Facts(((f"{lines.by}: {level}", ""),)), Formula(summands(equation))]
    facts = []
    if lines.parallel is not None:
        t = lines.parallel
        figures = (
            f"F({t.df}, {t.df_rest:.0f}) = {number(t.statistic, 2)}"
            if not math.isinf(t.df_rest)
            else f"Wald chi²({t.df}) = {number(t.statistic, 2)}"
        )
        what = (
            "slopes that differ in this model"
            if lines.own_slopes
            else "the model with slopes of their own for each level"
        )
        facts.append(("equal slopes?", f"{figures}, {p_phrase(t.p)}, tested by {what}"))
    if lines.crossed:
        facts.append(("crossing", f"{lines.by} is crossed with another group: these lines hold at that one's base"))
    own = (
        f"; the slope of {', '.join(lines.own_slopes)} is each line's own"
        if lines.own_slopes
        else "; the lines are parallel"
    )
    facts.append(("start", f"each line has its own first number, computed before it was rounded{own}"))
    blocks.append(Facts(tuple(facts)))
    return Page(f"The equation of {lines.outcome}, by {lines.by}", sections=(Section("", blocks=tuple(blocks)),))


def slopes_section(fit: AnyFit, numeric: str, by: str | None, at: Mapping[str, Sequence[float]] | None) -> Section:
    """Describe simple slopes of a numeric column, at chosen values or within the levels of a group.

    Parameters
    ----------
    fit : LinearFit or LogisticFit
        The fit.
    numeric : str
        The column.
    by : str, optional
        The moderator.
    at : mapping of str to sequence of float, optional
        Chosen values of numeric columns.

    Returns
    -------
    Section
        A row a slope; where the moderator is numeric, also the stretches in which the slope is clear.
    """
    table = fit.simple_slopes(numeric, by=by, at=at)
    held = [c for c in table.columns[: list(table.columns).index("slope")] if c not in ("level", "base", "n")]
    scale = scale_of(float(table["low"].min()), float(table["high"].max()))
    rows = []
    for r in table.to_dict("records"):
        decimals = decimals_for(float(r["se"]))
        size, *ends = value_with_ends(r["slope"], r["low"], r["high"], decimals)
        place = [f"{by} {r['level']}"] if "level" in r else []
        place += [f"{name} = {plain(r[name], 4)}" for name in held]
        cells = (
            ", ".join(place) or "everywhere",
            size,
            number(r["se"], decimals),
            from_to(*ends),
            p_value(r["p"]),
        )
        rows.append(Row(cells, "plain", Strip(r["low"], r["slope"], r["high"], *scale)))
    logistic, unit = fit.family is LOGISTIC, fit.family.scale(fit.outcome)
    note = (
        f"in {unit} per {fit.variable(numeric, 'numeric').column.step_one}; what is not named is averaged over the rows"
    )
    heads = ("where", "slope", "se", f"{short(100 * fit.level, 4)}% CI", "p")
    blocks: list[Table | Facts] = [Table(heads, tuple(rows), frozenset({1, 2, 3, 4}), 0, "lower ┊ higher")]
    facts: list[tuple[str, str]] = []
    if logistic:
        facts += [
            (
                "in probability",
                "; ".join(
                    f"{row.cells[0]}: {size} points ({low} to {high})"
                    for row, (size, low, high) in zip(rows, _in_points(table), strict=True)
                ),
            ),
            ("mind", f"{_of_what(by, len(rows))} in log odds is not one in probability; read both"),
        ]
    other = [f"`{n}`" for n in fit.slope_depends_on(numeric) if n not in (numeric, by, *held)]
    if other:
        words = f"in this model the slope differs by {listed(other)}{' as well' if by or held else ''}: here it is averaged over the rows"
        facts.append(
            ("mind", f"{words}; told by {'it' if len(other) == 1 else 'one of them'}, it shows where it is steep")
        )
    if by in held:
        for stretch in rows_of(fit.clear_region(numeric, by)):
            words = "the slope is clear" if stretch.clear else "no clear slope"
            facts.append(
                (
                    f"{by} {plain(stretch[0], 4)} to {plain(stretch.to, 4)}",
                    words if stretch.rows is None else f"{words} ({count_noun(int(stretch.rows), 'row')})",
                )
            )
    title = f"Simple slopes of {numeric}" + (f" by {by}" if by else "")
    return Section(title, note, (*blocks, *([Facts(tuple(facts))] if facts else [])))


def _in_points(table: pd.DataFrame) -> Iterator[tuple[str, str, str]]:
    """Write the slopes of a logistic fit in percentage points of probability, with the ends of their intervals."""
    for r in table.to_dict("records"):
        size, low, high = (100 * r[f"probability_{key}"] for key in ("slope", "low", "high"))
        yield value_with_ends(size, low, high, max(2, decimals_for((high - low) / 4, 1)))
