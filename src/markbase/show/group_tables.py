"""Groups read: levels with their base, pairs, lines, the guided list."""

from __future__ import annotations

import math

from markbase.core.formatting import clear_of_zero, decimals_for, number, p_phrase, p_value, short
from markbase.core.reading.logistic_sentences import ratio, ratio_decimals
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.results.statements import Guide, Lines
from markbase.core.tables import rows_of
from markbase.show.equation import summands
from markbase.show.page import Facts, Formula, Page, Row, Section, Sentences, Strip, Table

AnyFit = LinearFit | LogisticFit
_CORRECTED = {
    "holm": "corrected after Holm; intervals each by itself",
    "bonferroni": "corrected after Bonferroni; intervals hold together",
    "tukey": "corrected after Tukey and Kramer; intervals hold together",
    "none": "not corrected: each by itself",
}


def scale_of(low: float, high: float) -> tuple[float, float]:
    """Return a scale that includes 0, with a little room on the other side of it."""
    low, high = min(low, 0.0), max(high, 0.0)
    room = 0.08 * (high - low) or 1.0
    return (low - room if low < 0 else -room), (high + room if high > 0 else room)


def groups_section(fit: AnyFit, group: str) -> Section:
    """Describe the levels of a group: rows, mean or rate, adjusted mean or probability, difference from the base.

    Parameters
    ----------
    fit : LinearFit or LogisticFit
        The fit.
    group : str
        A group of the model.

    Returns
    -------
    Section
        A row a level, the base marked.
    """
    table = fit.groups(group)
    points = isinstance(fit, LogisticFit)
    factor = 100.0 if points else 1.0
    spread = [float(r.se) * factor for r in rows_of(table) if not r.base] or [1.0]
    decimals = min(decimals_for(min(spread)), 1 if points else 6)
    scale = scale_of(float(table["low"].min()), float(table["high"].max()))
    rows = []
    for r in rows_of(table):
        plain, adjusted = (number(factor * v, max(decimals, 1)) for v in (r.plain, r.adjusted))
        head = (str(r.level), f"{int(r.n):,}", plain, adjusted)
        strip = Strip(float(r.low), float(r.difference), float(r.high), *scale, is_base=bool(r.base))
        if r.base:
            rows.append(Row((*head, "0", "base", ""), "base", strip))
            continue
        ends = clear_of_zero(factor * r.low, factor * r.high, decimals)
        interval = f"{number(factor * r.low, ends)} to {number(factor * r.high, ends)}"
        rows.append(Row((*head, number(factor * r.difference, decimals), interval, p_value(r.p)), "plain", strip))
    what = ("rate %", "adjusted %", "points") if points else ("mean", "adjusted", "difference")
    percent = f"{short(100 * fit.level, 4)}%"
    heads = (group, "rows", what[0], what[1], what[2], f"{percent} CI", "p")
    test = fit.terms[fit.terms["term"] == group]
    joint = ""
    if len(test):
        joint = f"joint test {p_phrase(float(test['p'].iloc[0]))}; "
    note = f"{joint}adjusted: if all rows had this level and were otherwise as they are"
    if isinstance(fit, LogisticFit):
        note = f"{joint}{fit.outcome.name} = {fit.event}; adjusted: as if all rows had this level"
    drawing = Table(heads, tuple(rows), frozenset({1, 2, 3, 4, 5, 6}), 0, "lower ┊ higher")
    return Section(f"The levels of {group}", note, (drawing,))


def pairs_section(fit: AnyFit, group: str, correction: str = "holm") -> Section:
    """Describe every pair of levels of a group.

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
        A row a pair.
    """
    return compared_section(fit, fit.between(group, correction), f"Every pair of {group}", correction)


def compared_section(fit: AnyFit, table, title: str, correction: str) -> Section:  # type: ignore[no-untyped-def]
    """Describe comparisons as `between` and `planned` return them."""
    scale = scale_of(float(table["low"].min()), float(table["high"].max()))
    decimals, rows = decimals_for(float(table["se"].min())), []
    for r in rows_of(table):
        strip = Strip(float(r.low), float(r.difference), float(r.high), *scale)
        name = f"{r.level} against {r.against}"
        if isinstance(fit, LogisticFit):
            own = ratio_decimals(r.odds_ratio, r.se)
            size = ratio(r.odds_ratio, own)
            interval = f"{ratio(r.odds_low, own)} to {ratio(r.odds_high, own)}"
        else:
            ends = clear_of_zero(r.low, r.high, decimals)
            size, interval = number(r.difference, decimals), f"{number(r.low, ends)} to {number(r.high, ends)}"
        corrected = () if correction == "none" else (p_value(r.p_corrected),)
        rows.append(Row((name, size, interval, p_value(r.p), *corrected), "plain", strip))
    size = "odds ratio" if isinstance(fit, LogisticFit) else f"difference ({fit.outcome.step_many})"
    heads = ["pair", size, f"{short(100 * fit.level, 4)}% CI", "p"]
    heads += [] if correction == "none" else ["p corrected"]
    right = frozenset(range(1, len(heads)))
    return Section(title, _CORRECTED[correction], (Table(tuple(heads), tuple(rows), right, 0, "lower ┊ higher"),))


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
        facts.append(("parallel lines?", f"{figures}, {p_phrase(t.p)}, tested by {what}"))
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
