"""A sentence about the rows that a fit left out."""

from __future__ import annotations

from markbase.core.formatting import p_phrase
from markbase.core.reading.clauses import difference_words, is_logged, outcome_words
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.logistic import LogisticFit


def left_out_words(fit: AnyFit) -> str:
    """Say whether the outcome is another in the rows left out than in those used; empty where nothing can be said."""
    if fit.left_out is None:
        return ""
    verdict = (
        "they differ in it, so what holds of the rows used need not hold of all"
        if fit.left_out.p < fit.alpha
        else "no clear evidence that they differ in it"
    )
    return f"in the {left_out_figures(fit)}: {verdict}"


def left_out_figures(fit: AnyFit, verb: str = "is") -> str:
    """Say how much another the outcome is in the rows left out; empty where nothing can be said."""
    found = fit.left_out
    if found is None:
        return ""
    if isinstance(fit, LogisticFit):
        what, average = f"the share of `{fit.outcome.name}` = `{fit.event}`", ""
    else:
        what, average = outcome_words(fit.outcome), "" if is_logged(fit.outcome) else "on average "
    size, ends = difference_words(fit, found.difference, found.low, found.high, found.se)
    than = "as" if size.endswith("as high") else "than"  # many times as high, and not so many percent higher
    alike = ", each counted once" if fit.weights else ""
    return f"{found.rows:,} of them with a value{alike}, {what} {verb} {average}{size} {than} in the rows used ({ends}, {p_phrase(found.p)})"
