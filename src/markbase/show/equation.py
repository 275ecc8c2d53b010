"""An equation, as parts that stay whole when a line is broken; or one line for each level of a group."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Sequence

from markbase.core.errors import count_noun, listed, quoted
from markbase.core.formatting import figures_of, p_phrase
from markbase.core.results.statements import Equation, Lines
from markbase.show.page import Facts, Formula, Page, Section


def equation_page(equation: Equation) -> Page:
    """Describe an equation."""
    return Page(f"The equation of {equation.outcome}", sections=(Section("", blocks=equation_blocks(equation)),))


def summands(equation: Equation) -> tuple[str, ...]:
    """Return the parts of an equation: what it gives, then each summand with its sign."""
    if equation.untold:
        return (f"{equation.outcome}:", *equation.untold.split())
    parts = [f"{equation.outcome} ="]
    for place, part in enumerate(equation.parts):
        negative = part.estimate < 0 or (part.estimate == 0 and math.copysign(1, part.estimate) < 0)
        sign = ("−" if negative else "") if place == 0 else ("− " if negative else "+ ")
        parts.append(f"{sign}{part.shown}{'·' + part.factor if part.factor else ''}")
    return tuple(parts)


def equation_section(place: str, equation: Equation, fixed: Sequence[str] = ()) -> Section:
    """Return the section of the page of a fit that has its equation: terms of very many summands stand in it as one each.

    `place` is the number of the section, with what parts it from its heading.
    """
    counts = Counter(part.term for part in equation.parts)
    long = {term: n for term, n in counts.items() if term and n > _MOST_SUMMANDS}
    if not long:
        return Section(
            f"{place}The equation{'' if equation.untold else ', complete'}", blocks=equation_blocks(equation, fixed)
        )
    shown, seen = [], set()
    for part, text in zip(equation.parts, summands(equation)[1:], strict=True):
        if part.term not in long:
            shown.append(text)
        elif part.term not in seen:
            seen.add(part.term)
            shown.append(f"+ [{part.term}]")
    facts = equation_blocks(equation, fixed)[1]
    told = [(f"[{term}]", f"{n:,} summands, not laid out here: the coefficients above") for term, n in long.items()]
    return Section(
        f"{place}The equation", blocks=(Formula((summands(equation)[0], *shown)), Facts((*told, *facts.pairs)))
    )


def equation_blocks(equation: Equation, fixed: Sequence[str] = ()) -> tuple[Formula, Facts]:
    """Return an equation with the facts that must be known to use it."""
    if equation.untold:
        return Formula(summands(equation)), Facts(())
    facts = [("[group: level]", "is 1 for rows of that level and 0 for others")] if equation.bases else []
    facts += [
        ("base of " + name, f"{base} (no summand of its own: it is part of the first number)")
        if base
        else (name, "every level has a summand, counted from the mean of the levels, which is part of the first number")
        for name, base in equation.bases
    ]
    facts += [
        (name, "taken out: the first number is the mean over the rows of its levels' own starts") for name in fixed
    ]
    facts.append(("digits", "rounded for reading; the coefficients, saved or as data, hold all of them"))
    return Formula(summands(equation)), Facts(tuple(facts))


_MOST_SUMMANDS = 40
"""Summands of a term that the page of a fit lays out."""
_MOST_LINES = 40
"""Levels whose lines a page writes out."""


def lines_page(lines: Lines) -> Page:
    """Describe an equation with a line for each level of a group."""
    blocks: list[Facts | Formula] = []
    for level, equation in lines.lines[:_MOST_LINES]:
        blocks += [Facts(((f"{lines.by}: {level}", ""),)), Formula(summands(equation))]
    left = len(lines.lines) - _MOST_LINES
    facts = [("and so on", f"{count_noun(left, 'more level')}; as data they are all there")] if left > 0 else []
    if lines.parallel is not None:
        t = lines.parallel
        figures = figures_of(t.statistic, t.df, t.df_rest, "Wald")
        what = (
            "slopes that differ in this model"
            if lines.own_slopes
            else "the model with slopes of their own for each level"
        )
        facts.append(("equal slopes?", f"{figures}, {p_phrase(t.p)}, tested by {what}"))
        facts += [("mind", f"the test of equal slopes: {lines.overstated}")] if lines.overstated else []
    if lines.crossed:
        facts.append(("interaction", f"the summands of {listed(quoted(lines.crossed))} are each line's own"))
    own = (
        f"; the slope of {', '.join(lines.own_slopes)} is each line's own"
        if lines.own_slopes
        else "; slopes are the same in all of them"
        if lines.crossed
        else "; the lines are parallel"
    )
    facts.append(("start", f"each line has its own first number, computed before it was rounded{own}"))
    blocks.append(Facts(tuple(facts)))
    return Page(f"The equation of {lines.outcome}, by {lines.by}", sections=(Section("", blocks=tuple(blocks)),))
