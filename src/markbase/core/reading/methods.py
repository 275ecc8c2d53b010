"""The methods paragraph: what was done, in sentences for a manuscript."""

from __future__ import annotations

from markbase.core.errors import listed
from markbase.core.formatting import short
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.logistic import LogisticFit

_CODED = {
    "indicator": "indicators against `{base}`",
    "effect": "effects against the mean of its levels",
    "adjacent": "steps from each level to the next",
    "trend": "orthogonal trends over its order",
}


def methods_paragraph(fit: AnyFit, version: str) -> str:
    """Say what was fitted, to which rows, against which bases, with which errors.

    Parameters
    ----------
    fit : AnyFit
        A fit of either kind.
    version : str
        The version of this program.

    Returns
    -------
    str
        Sentences, names between backquotes.
    """
    logistic = isinstance(fit, LogisticFit)
    kind = (
        f"A logistic regression of the odds of `{fit.outcome.name}` = `{fit.event}`"
        if isinstance(fit, LogisticFit)
        else f"A linear regression of `{fit.outcome.name}`"
    )
    terms = [f"`{t.name}`" for t in fit.model_terms]
    told = [f"{kind} on {listed(terms)} was fitted by {'maximum likelihood' if logistic else 'least squares'}."]
    if getattr(fit, "penalty", ""):
        told[0] = told[0].replace("maximum likelihood", "penalised likelihood (Firth, 1993)")
    lost = fit.sample.rows - fit.sample.used
    if lost:
        told.append(
            f"Of {fit.sample.rows:,} rows, {fit.sample.used:,} had a value in the outcome and every term and were used; {lost:,} were left out."
        )
    else:
        told.append(f"All {fit.sample.rows:,} rows were used.")
    groups = {p.name: p for t in fit.model_terms for p in t.variables if p.is_categorical}
    for term in groups.values():
        base = term.column.base
        coded = _CODED[term.column.scheme].format(base=term.base_label)
        why = ""
        if term.column.scheme == "indicator":
            why = (
                f" (chosen: {base.reason})"
                if base and base.chosen and base.reason
                else ""
                if base and base.chosen
                else " (its largest level, not chosen)"
            )
        told.append(f"`{term.name}` entered as {coded}{why}.")
    if fit.fixed_effect_names:
        told.append(f"All levels of {listed([f'`{n}`' for n in fit.fixed_effect_names])} were controlled for.")
    told.append(f"Standard errors are {fit.errors_words}; intervals are at {short(100 * fit.level, 4)}%.")
    told.append(f"Computed with Mark Base {version}.")
    return " ".join(told)
