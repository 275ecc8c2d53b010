"""That a line bends, where one slope or odds ratio of it is told, or was cut into levels that leave much of it out, or that time runs between two levels."""

from __future__ import annotations

import math

from markbase.core.checks.curves_beside import unclear_beside_curves
from markbase.core.checks.cut_groups import left_within, none_apart
from markbase.core.checks.rows_in_time import before_and_after
from markbase.core.design.terms import Term
from markbase.core.errors import listed, quoted
from markbase.core.formatting import as_percent, decimals_for, figures_of, number, p_phrase
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.linear import LinearFit
from markbase.core.tables import TableRow


def about_line(fit: AnyFit, name: str, row: TableRow) -> list[str]:
    """Say of a numeric column that its line clearly bends, and what the slope in a row of the coefficients is then."""
    if name not in fit._bent:
        return []
    told = f"one {'odds ratio' if fit.family.ratios else 'slope'} tells only its average"
    if row["p"] >= fit.alpha:
        told += ", and that this is not clear does not mean that nothing is there"
    return [f"{bend_words(fit, name)}: {told}. With its square in the model the curve is told."]


def about_cut(fit: AnyFit, term: Term) -> list[str]:
    """Say of a group that was cut out of a numeric column that this column goes on telling something within its levels."""
    left = left_within(fit, term)
    if left is None:
        return []
    change, outcome = left.change, "the log odds go" if fit.family.ratios else f"`{fit.outcome.name}` goes"
    figures = f"{figures_of(change.statistic, change.df, change.df_rest, change.kind)}, {p_phrase(change.p)}"
    return [
        f"It was cut out of `{left.source}`: all rows of a level count as alike, but within the levels {outcome} on changing with `{left.source}` ({figures}, "
        f"{as_percent(left.explains)} of what the model leaves{left.where}). As a number `{left.source}` tells that as well, and holds it equal for other terms."
    ]


def about_before_and_after(fit: AnyFit, term: Term) -> list[str]:
    """Say of a group of two levels that one of them came after the other, and what is left of their difference beside a trend."""
    found = before_and_after(fit, term.variables[0]) if isinstance(fit, LinearFit) else None
    if found is None:
        return []
    told = f"All rows of `{found.later}` come after those of `{found.earlier}` (`{found.column}`): whatever else changed in time is in this difference"
    if math.isnan(found.estimate):
        return [f"{told}."]
    estimate = number(found.estimate, decimals_for(abs(found.estimate) / 10))
    return [
        f"{told}. Beside a straight line over `{found.column}` the coefficient is {estimate} ({p_phrase(found.p)})."
    ]


def about_none(fit: AnyFit, term: Term) -> list[str]:
    """Say of a numeric column that is 0 in many rows that these lie apart from its line."""
    found = none_apart(fit, term)
    if found is None:
        return []
    change = found.change
    figures = f"{figures_of(change.statistic, change.df, change.df_rest, change.kind)}, {p_phrase(change.p)}"
    return [
        f"`{term.name}` is 0 in {as_percent(found.share)} of the rows, and these lie apart from its line ({figures}, {as_percent(found.explains)} of what the model leaves"
        f"{found.where}): whether there is any, and how much there is, are two questions. A yes/no column of whether it is above 0, beside it, tells both."
    ]


def about_product(fit: AnyFit, term: Term) -> list[str]:
    """Say of a clear interaction that it is not clear beside the squares of its numeric columns."""
    found = unclear_beside_curves(fit, term)
    if found is None:
        return []
    one = len(found.columns) == 1
    which = (
        f"the square of `{found.columns[0]}`, which"
        if one
        else f"the squares of {listed(quoted(found.columns))}, of which one at least"
    )
    by = (
        f"levels of `{term.groups[0].name}` that lie at different places of it"
        if term.groups
        else "columns that go together"
    )
    return [
        f"Beside {which} is clear ({p_phrase(found.squares)}), it is not ({p_phrase(found.p)}{found.where}): of {by} a product may stand in for a curve that the model lacks."
    ]


def bend_words(fit: AnyFit, name: str) -> str:
    """Say that the line of a numeric column bends, with the test of its square."""
    bend = fit._bent[name]
    figures = f"{figures_of(bend.statistic, 1, bend.df_rest)}, {p_phrase(bend.p)}"
    lead = f"Along `{name}` the log odds bend" if fit.family.ratios else f"The line of `{name}` bends"
    return f"{lead} {bend.bend} (its square, {figures}, explains {as_percent(bend.explains)} of what the model leaves{bend.where})"
