"""The methods paragraph: what was done, in sentences for a manuscript."""

from __future__ import annotations

from dataclasses import dataclass

from markbase.core.errors import count_noun, listed, quoted
from markbase.core.formatting import short
from markbase.core.inference.corrections import WITH_ONE_LEVEL
from markbase.core.reading.group_cautions import default_base
from markbase.core.reading.left_out_words import left_out_figures
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.equivalence import margin_words
from markbase.core.results.logistic import LogisticFit
from markbase.core.study.trail import Trail

_CODED = {
    "indicator": "indicators against `{base}`",
    "effect": "effects against the mean of its levels",
    "adjacent": "steps from each level to the next",
    "trend": "orthogonal trends over its order",
}


_CORRECTED = {
    "benjamini-hochberg": "corrected after Benjamini and Hochberg (1995) for the false discovery rate",
    "holm": "corrected after Holm (1979)",
    "bonferroni": "corrected after Bonferroni",
    "tukey": "corrected after Tukey and Kramer",
    "dunnett": "corrected after Dunnett",
    "scheffe": "corrected after Scheffé",
    "none": "not corrected for one another",
}
_TOLD_OF_ROWS = ("aggregate", "as_long", "keep", "hold_out", "join", "leave_out_repeats")


@dataclass(frozen=True)
class Procedure:
    """What was done with a fit besides fitting it; each part is told only if it happened."""

    trail: Trail | None = None
    """How the data were prepared."""
    blocks: tuple[tuple[str, tuple[str, ...]], ...] = ()
    """The blocks of the entry that the fit ends, each with the terms it adds; empty for none."""
    test: str = ""
    """The kind of test of what a block adds."""
    draws: int = 0
    """Bootstrap samples that intervals of what a block adds, or without blocks of the coefficients, were taken from; 0 for none."""
    seed: int = 0
    """Their seed."""
    groups: tuple[str, ...] = ()
    """Groups of which all pairs were compared."""
    correction: str = "holm"
    """Of their p values."""
    folds: int = 0
    """Parts of a cross-validation; 0 for none."""
    held_out: float = 0.0
    """The share of rows held out before the fit; 0 for none."""
    margin: float | None = None
    """The smallest difference that would matter, against which pairs of levels were tested; None for none."""
    dominance: bool = False
    """Whether what its terms, or blocks, add was averaged over all orders of entry."""
    subgroups: tuple[str, ...] = ()
    """Groups in each level of which the model was fitted by itself."""
    imputations: int = 0
    """Of how many imputations it is the first, all of which were combined; 0 where it stands by itself."""
    plausible: tuple[str, ...] = ()
    """Of which plausible values it has the first, all of which were combined."""


def methods_paragraph(fit: AnyFit, version: str, procedure: Procedure | None = None) -> str:
    """Say what was fitted, to which rows, against which bases, with which errors, and what else was done.

    Names between backquotes; each clause only where it happened.
    """
    did = procedure or Procedure()
    how = "least squares"
    kind = f"A linear regression of `{fit.outcome.name}`"
    if isinstance(fit, LogisticFit):
        how = "penalised likelihood (Firth, 1993)" if fit.penalty else "maximum likelihood"
        kind = f"A logistic regression of the odds of `{fit.outcome.name}` = `{fit.event}`"
    terms = [f"`{t.name}`" for t in fit.model_terms]
    told = [f"{kind} on {listed(terms)} was fitted by {how}."]
    told += _over_imputations(did)
    told += [*_rows(fit), *_prepared(fit, did.trail), *_coded(fit)]
    if fit.fixed_effect_names:
        told.append(f"All levels of {listed(quoted(fit.fixed_effect_names))} were controlled for (fixed effects).")
    if fit.weights is not None:
        what = "as sampling weights" if fit.weights.kind == "sampling" else "as frequencies"
        told.append(f"Rows were weighted by `{fit.weights.column}`, {what}.")
    if did.blocks:
        told += _entered(did)
    told.append(f"Standard errors are {fit.errors_words}; intervals are at {short(100 * fit.level, 4)}%.")
    if did.draws and not did.blocks:
        drawn = f"whole levels of `{fit.errors.cluster}`" if fit.errors.cluster else "rows"
        told.append(
            f"Beside them stand bias-corrected and accelerated intervals (Efron, 1987) from {did.draws:,} bootstrap samples of {drawn} (seed {did.seed})."
        )
    if did.groups:
        of = listed(quoted(did.groups))
        which = (
            f"all pairs of levels of {of}"
            if did.correction not in WITH_ONE_LEVEL
            else f"the levels of {of} against their base"
        )
        told.append(f"The p values of {which} were {_CORRECTED[did.correction]}.")
    if did.margin is not None:
        told.append(
            f"Whether differences are smaller than {margin_words(fit, did.margin)}, in either direction, was tested by two one-sided tests (Schuirmann, 1987)."
        )
    if did.dominance:
        told.append(
            f"What each {'block' if did.blocks else 'term'} adds was averaged over all orders of entry (dominance analysis; Azen & Budescu, 2003)."
        )
    for group in did.subgroups:
        test = "likelihood ratios" if isinstance(fit, LogisticFit) and fit.by_likelihood else "Wald's tests"
        told.append(
            f"The same model was fitted in each level of `{group}` by itself; whether its coefficients differ between the levels was tested in one fit with interactions ({test})."
        )
    whole = f", whole levels of `{fit.errors.cluster}`," if fit.errors.cluster else ""
    if did.folds:
        told.append(
            f"The model was cross-validated: each of {did.folds} parts of the rows{whole} was predicted by a fit to the others."
        )
    if did.held_out:
        told.append(
            f"{short(100 * did.held_out, 4)}% of the rows{whole} were held out at random, and predicted by a fit to the others."
        )
    told.append(f"Computed with Mark Base {version}.")
    return " ".join(told)


def _over_imputations(did: Procedure) -> list[str]:
    """Tell that what is told was combined over imputations or plausible values."""
    if not did.imputations:
        return []
    what = (
        f"for each of the plausible values {listed(quoted(did.plausible))}"
        if did.plausible
        else f"in each of {did.imputations} imputations"
    )
    return [
        f"The model was fitted {what}, and the estimates were combined by Rubin's (1987) rules, with the degrees of freedom of Barnard and Rubin (1999); several coefficients were "
        "tested together after Li, Raghunathan and Rubin (1991), with those of Reiter (2007)."
    ]


def _rows(fit: AnyFit) -> list[str]:
    lost = fit.sample.rows - fit.sample.used
    if not lost:
        return [f"All {fit.sample.rows:,} rows were used."]
    reasons = [f"`{loss.column}` {loss.reason} in {loss.rows:,}" for loss in fit.sample.losses]
    return [
        f"Of {fit.sample.rows:,} rows, {fit.sample.used:,} had a value in the outcome and every term and were used; {lost:,} "
        f"{'was' if lost == 1 else 'were'} left out ({listed(reasons)}).",
        *([f"In the {left_out_figures(fit, 'was')}."] if fit.left_out else []),
    ]


def _prepared(fit: AnyFit, trail: Trail | None) -> list[str]:
    """Tell the steps that made the columns of the model, or chose the rows; without a trail what columns were made of."""
    inside = {fit.outcome.name, *(v.name for v in fit.variables), *fit.fixed_effect_names}
    if trail is None:
        made = [v.column for v in fit.variables if v.column.made is not None]
        made += [fit.outcome] if fit.outcome.made is not None else []
        return [f"`{c.name}` is {c.made.words}." for c in made if c.made is not None]
    sources = list(inside)
    columns = {c.name: c for c in (fit.outcome, *(v.column for v in fit.variables))}
    while sources:  # what a column was made of was prepared too
        column = columns.get(sources.pop())
        for source in column.made.sources if column is not None and column.made is not None else ():
            columns[source.name] = source
            if source.name not in inside:
                inside.add(source.name)
                sources.append(source.name)
    told = []
    for step in trail.steps:
        if step.action in ("open", "mark", "as_role", "code_as"):
            continue
        if step.column in inside or step.action in _TOLD_OF_ROWS:
            why = f" ({step.reason})." if step.reason else "."
            told.append(step.text.removesuffix(".") + why)
    return told


def _coded(fit: AnyFit) -> list[str]:
    told = []
    for variable in (v for v in fit.variables if v.is_categorical):
        base, scheme = variable.column.base, variable.column.scheme
        why = ""
        if scheme == "indicator" and (base is None or not base.chosen):
            why = f" ({default_base(fit, variable)}, not chosen)"
        elif scheme == "indicator" and base is not None and base.reason:
            why = f" ({base.reason})" if base.reason.startswith("chosen") else f" (chosen: {base.reason})"
        told.append(f"`{variable.name}` entered as {_CODED[scheme].format(base=variable.base_label)}{why}.")
    return told


def _entered(did: Procedure) -> list[str]:
    parts = [f"`{name}` ({', '.join(added)})" for name, added in did.blocks]
    test = {
        "F": "F tests",
        "Wald F": "Wald's F",
        "Wald": "Wald's test",
        "likelihood ratio": "likelihood ratio tests",
        "combined": "its coefficients together",
    }
    told = [
        f"Terms entered in {count_noun(len(parts), 'block')}, {listed(parts)}, all on the same rows; what each adds was tested by {test[did.test]}."
    ]
    if did.draws:
        told.append(
            f"Intervals of what each block adds are bias-corrected percentiles of {did.draws:,} bootstrap samples (seed {did.seed})."
        )
    return told
