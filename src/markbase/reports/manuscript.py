"""Tables as a manuscript has them: captions, notes, and the tables that pages show, before any file is made of them."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from markbase.core.arguments import told_value
from markbase.core.comparison.blocks import Blocks
from markbase.core.comparison.coefficient_samples import CoefficientSamples
from markbase.core.comparison.comparison import Comparison, about_criteria
from markbase.core.comparison.dominance import Dominance
from markbase.core.comparison.imputations import Imputations
from markbase.core.comparison.imputed_blocks import ImputedBlocks
from markbase.core.comparison.subgroups import Subgroups
from markbase.core.display import suiting
from markbase.core.errors import MarkbaseError, listed
from markbase.core.formatting import decimals_for, figures_of, from_to, number, p_phrase, p_value, short, without_zero
from markbase.core.inference.distributions import t_quantile
from markbase.core.reading.interaction_sentences import about_averages
from markbase.core.reading.slope_sentences import at_reference
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.fit import Fit
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.rows.row_functions import sd_of
from markbase.core.screening.description import Description
from markbase.core.screening.reliability import Reliability
from markbase.core.screening.screen import Screen
from markbase.core.tables import rows_of
from markbase.reports.labelled import labelled, labels_of
from markbase.show.coefficient_samples import samples_table
from markbase.show.description import beside_one_another
from markbase.show.dominance import added_table
from markbase.show.group_tables import joint_p, levels_table
from markbase.show.imputations import imputations_table
from markbase.show.page import Row, Section, Table
from markbase.show.reliability import items_table
from markbase.show.statistics import BETA, OF_BETA, coefficients_table, df_words, side_by_side

Result = (
    AnyFit
    | Blocks
    | CoefficientSamples
    | Comparison
    | Description
    | Dominance
    | Imputations
    | ImputedBlocks
    | Reliability
    | Screen
    | Subgroups
    | tuple[AnyFit, str]
)


def manuscript_table(result: Result, labels: bool = False, standardised: bool = False) -> Section:
    """Return a result as the table of a manuscript: its caption as title, one table, and what stands below it as note.

    With `labels` columns are called by the labels they have. Coefficients of linear fits stand there `standardised` as well, if wanted.
    """
    told = _table(result, standardised)
    return labelled(told, labels_of(result), isinstance(result, tuple)) if labels else told


def _table(result: Result, standardised: bool) -> Section:
    if standardised and (beside := suiting(result, _WITH_BETAS)) is not None:
        told = beside(result, True)
        betas = BETA in table_in(told).heads
        return (
            replace(told, note=f"{told.note} {BETA}: coefficients in standard deviations of the outcome; {OF_BETA}.")
            if betas
            else told
        )
    if isinstance(result, tuple) and len(result) == 2 and isinstance(result[0], Fit):
        return _levels(*result)
    table = suiting(result, _TABLES)
    if table is None:
        raise MarkbaseError(
            f"A table for a manuscript is of a fit, its coefficients in samples, a blockwise entry, a comparison, a sample, a dominance analysis, a model over imputations or several in blocks, a scale, a screening, a model in subgroups, or a fit and "
            f'a group of it as `(fit, "voice")`; not of {told_value(result)}.'
        )
    return table(result)


def table_in(told: Section) -> Table:
    """Return the table of what `manuscript_table` returned."""
    (table,) = told.blocks
    assert isinstance(table, Table)
    return table


def _model(fit: AnyFit, standardised: bool = False) -> Section:
    caption = f"{fit.explained}: {fit.family.name} regression"
    table = coefficients_table(fit, formal=True, standardised=standardised)
    return Section(caption, f"{_at_references(fit)}{_note(fit)}", (table,))


def _at_references(fit: AnyFit) -> str:
    """Say where the coefficients of terms hold that are within interactions; empty where there are none."""
    places = []
    for term in fit.model_terms:
        at, outside = at_reference(fit, *term.names)
        if at:
            places.append(f"{term.name}{at}{' (outside these rows)' if outside else ''}".replace("`", ""))
    if not places:
        return ""
    return f"Within interactions a coefficient holds at the reference of the others: {'; '.join(places)}. "


def _note(fit: AnyFit) -> str:
    test = fit.overall
    rows = _how_many(fit)
    whole = f"{figures_of(test.statistic, test.df, test.df_rest, test.kind.capitalize())}, {p_phrase(test.p)}"
    if isinstance(fit, LogisticFit):
        t = fit.strength
        return f"{rows}; event: {fit.event} ({fit.events:,}). {whole}; McFadden {without_zero(t.mcfadden)}, Tjur {without_zero(t.tjur)}. {_errors(fit)}."
    shown = f"R² = {without_zero(fit.strength.r2)}, adjusted {without_zero(fit.strength.r2_adjusted)}"
    return f"{rows}. {whole}; {shown}. {_errors(fit)}."


def _how_many(fit: AnyFit) -> str:
    rows = f"{fit.sample.used:,} of {fit.sample.rows:,} rows"
    return (
        f"n = {rows}" if fit.rows_used.times is None else f"n = {fit.rows_used.counted:,}, by the frequencies of {rows}"
    )


def _errors(fit: AnyFit, name: str = "") -> str:
    """Say what errors rest on, of a model with a name behind that, and which levels were taken out."""
    words = f"{fit.errors.words}{f'; {fit.weighting.short}' if fit.weighting else ''}".replace("`", "")
    if fit.fixed_effect_names:
        words += f". All levels of {listed(fit.fixed_effect_names)} are in the model and not listed"
    return f"{name}: {words}" if name else words[0].upper() + words[1:]


def _steps(hierarchy: Blocks, standardised: bool = False) -> Section:
    fit, names, steps = hierarchy.last, hierarchy.names, rows_of(hierarchy.steps)
    if hierarchy.logistic:
        rows = [Row(("Deviance", *(number(s.deviance, 1) for s in steps)), "group")]
        rows.append(Row(("McFadden", *(without_zero(s.mcfadden) for s in steps))))
    else:
        measure = "R² within levels" if fit.fixed_effect_names else "R²"
        rows = [Row((measure, *(without_zero(s.r2) for s in steps)), "group")]
        rows.append(Row(("Change of R²", *(without_zero(s.r2_change) for s in steps))))
    sign = "chi²" if math.isinf(fit.df_rest) else "F"
    rows.append(Row((f"{sign} of the change", *(f"{number(s.statistic, 2)}" for s in steps))))
    rows += [Row(("df", *map(df_words, steps))), Row(("p", *(p_value(s.p) for s in steps)))]
    rows_used = f"All columns on the same {fit.sample.used:,} of {fit.sample.rows:,} rows."
    note = f"{_in_brackets(fit)} {_at_references(fit)}{rows_used} {_errors(fit)}."
    return Section(f"{fit.explained}, block by block", note, (_beside(tuple(hierarchy), names, rows, standardised),))


def _variants(comparison: Comparison, standardised: bool = False) -> Section:
    names, fits, rows = comparison.names, comparison.fits, []
    figures = {"r2": "R²", "r2_adjusted": "Adjusted R²", "mcfadden": "McFadden", "aic": "AIC", "bic": "BIC"}
    for key, words in figures.items():
        if key in comparison.strength and comparison.same_outcome:
            values = comparison.strength[key]
            shown = [number(v, 1) if key in ("aic", "bic") else without_zero(v) for v in values]
            rows.append(Row((words, *shown)))
    note = f"{_in_brackets(fits[0])} All columns on the same {comparison.rows:,} rows. "
    errors = list(dict.fromkeys(map(_errors, fits)))
    each = [f"{errors[0]}."] if len(errors) == 1 else [f"{_errors(f, n)}." for n, f in zip(names, fits, strict=True)]
    each += [f"{n}: w{at[1:]}" for n, f in zip(names, fits, strict=True) if (at := _at_references(f))]
    note = " ".join(
        [note.rstrip(), *(words.strip() for words in each), about_criteria(fits) * comparison.same_outcome]
    ).rstrip()
    explained = " and ".join(dict.fromkeys(f.explained for f in fits))
    return Section(f"{explained}: {len(fits)} models side by side", note, (_beside(fits, names, rows, standardised),))


def _beside(fits: Sequence[AnyFit], names: Sequence[str], below: Sequence[Row], standardised: bool) -> Table:
    """Return coefficients side by side, with what is said of each model below them."""
    table = side_by_side(fits, names, formal=True, standardised=standardised)
    if BETA in table.heads:
        below = [Row((row.cells[0], *(cell for own in row.cells[1:] for cell in (own, ""))), row.kind) for row in below]
    return replace(table, rows=(*table.rows, *below))


def _in_brackets(fit: AnyFit) -> str:
    name = fit.family.coefficient.capitalize() if fit.family.ratios else "Estimates"
    return f"{name} with standard errors in brackets."


def _levels(fit: AnyFit, group: str) -> Section:
    p = joint_p(fit, group)
    joint = "" if math.isnan(p) else f"All levels together: {p_phrase(p)}. "
    others = [t.name for t in fit.model_terms if group not in t.names]
    held = f" with {listed(others)} as they are" if others else ""
    averaged = "".join(f"{words[0].upper()}{words[1:]}. ".replace("`", "") for words in about_averages(fit, group))
    note = f"Adjusted {fit.family.means}: if all rows had this level{held}. Differences are from the base; their p are not corrected for one another. {averaged}{joint}{_note(fit)}"
    told = f"{'Probability of ' if fit.family.shares else ''}{fit.family.observed(fit.outcome)}"
    return Section(f"{told}, by {group}", note, (levels_table(fit, group, formal=True),))


def _associations(screen: Screen) -> Section:
    columns = [c for c in (screen.outcome, *(t.column for t in screen.basis.terms)) if c is not None]
    used, values, heavy = screen.basis.used, screen.among.values, screen.basis.weights
    often = heavy if heavy is None or used is None else heavy[used]
    rows = []
    for k, column in enumerate(columns):
        mean = sd = ""
        name = column.name
        if not column.is_categorical or len(column.levels) == 2:
            inside = (column.values if used is None else column.values[used]).astype(np.float64)
            middle, spread = float(np.average(inside, weights=often)), sd_of(inside, often)
            decimals = decimals_for(spread or 1.0, 3)
            mean, sd = number(middle, decimals), number(spread, decimals)
            if column.is_categorical:
                name = f"{name} (1: {column.levels[1].label})"
        cells = [
            without_zero(float(values[k, j]), 2) if j < k else "–" if j == k else "" for j in range(len(columns) - 1)
        ]
        rows.append(Row((f"{k + 1}. {name}", mean, sd, *cells)))
    heads = ("", "M", "SD", *(str(k + 1) for k in range(len(columns) - 1)))
    table = Table(heads, tuple(rows), frozenset(range(1, len(heads))))
    return Section("Means, standard deviations and associations", _about_associations(screen), (table,))


def _shares(found: Dominance) -> Section:
    fit = found.fit
    note = f"Averages over all orders of entry (dominance analysis); they sum to the {found.measure} of the whole model, {without_zero(found.total)}"
    note += f"; intervals of them from {found.sampled}" if found.sampled else ""
    members = (f"{name}: {', '.join(own)}" for name, own in found.members.items() if found.what == "block")
    rows = _how_many(fit)
    rows += f", by {fit.weighting.short.replace('`', '')}" if fit.weighting else ""
    parts = [f"{note}.", *(f"{told}." for told in members), f"{rows}."]
    title = f"{fit.explained}: what each {found.what} adds to {found.measure}"
    return Section(title, " ".join(parts), (added_table(found, formal=True),))


def _sampled(found: CoefficientSamples) -> Section:
    fit = found.fit
    drawn = f"Bias, SE and interval (bias-corrected and accelerated, BCa) are of bootstrap samples: {found.words}."
    rows = (
        f"n = {fit.sample.used:,} of {fit.sample.rows:,} rows{f', by {fit.weighting.short}' if fit.weighting else ''}."
    )
    note = f"{drawn} SE and interval of the fit rest on {fit.errors.words}. {rows}".replace("`", "")
    return Section(f"{fit.explained}: coefficients in bootstrap samples", note, (samples_table(found, formal=True),))


def _items(found: Reliability) -> Section:
    ends = from_to(*(without_zero(end, 2) for end in found.interval))
    alpha = f"Cronbach's alpha = {without_zero(found.alpha, 2)}, {short(100 * found.level)}% CI {ends}"
    if math.isnan(found.alpha):
        alpha = "Cronbach's alpha: none, the sum of the items does not vary"
    rest = "r with the rest: with the sum of the other items"
    rows = f"n = {found.sample.used:,} of {found.sample.rows:,} rows, those that have every item"
    if found.factor is not None:
        ends = from_to(*(without_zero(end, 2) for end in found.omega_interval))
        alpha += f"; McDonald's omega = {without_zero(found.omega, 2)}, {short(100 * found.level)}% CI {ends}"
    note = f"{alpha}; mean correlation {without_zero(found.mean_r, 2)}. {rest}. {rows}."
    return Section(f"Items of a scale of {len(found.items)}", note, (items_table(found, formal=True),))


def _sample(found: Description) -> Section:
    numeric, groups = ([c for c in found.columns if c.is_categorical == wanted] for wanted in (False, True))
    tables = [beside_one_another(found, columns, formal=True) for columns in (numeric, groups) if columns]
    heads, rows = tables[0].heads, [row for table in tables for row in table.rows]
    by = f" by {found.by.name}" if found.by is not None else ""
    counted = f"n = {found.used:,} of {found.rows:,} rows{f', those with a level of {found.by.name}' if found.by is not None else ''}"
    note = f"M (SD) of numeric columns, n (%) of levels; {counted}, each column on those that have it"
    note += f"; by the sampling weights in {found.weights}" if found.weights else ""
    if len(found.compared):
        note += ". p: Welch's F of numeric columns, Pearson's chi² of groups, each by itself; size: correlation ratio, Cramér's V"
    return Section(f"The sample{by}", f"{note}.", (Table(heads, tuple(rows), frozenset(range(1, len(heads)))),))


def _each_level(found: Subgroups, standardised: bool = False) -> Section:
    first = next(iter(found.fits.values()))
    figures = ("R²", "r2") if isinstance(first, LinearFit) else ("McFadden", "mcfadden")
    strength = list(rows_of(found.strength))
    below = [
        ("n", [f"{r.rows:,}" for r in strength]),
        (figures[0], [without_zero(getattr(r, figures[1])) for r in strength]),
    ]
    rows = [Row((label, *cells), "group") for label, cells in below]
    table = _beside(list(found.fits.values()), list(found.fits), rows, standardised)
    unit = "log odds" if first.family.ratios else first.outcome.unit_many
    tests = [f"{r.term} {p_phrase(r.p)}" for r in rows_of(found.tests) if not math.isnan(r.p)]
    differ = f" Whether coefficients differ between the levels: {'; '.join(tests)}." if tests else ""
    note = f"In {unit}, standard errors in brackets; a model of its own in each level of {found.by.name}. {_errors(first)}.{differ}"
    return Section(
        f"{first.explained}, in each level of {found.by.name}: {first.family.name} regression",
        note,
        (table,),
    )


def _over_imputations(found: Imputations) -> Section:
    fit, test = found.fit, found.overall
    whole = (
        ""
        if math.isnan(test.statistic)
        else f" {figures_of(test.statistic, test.df, test.df_rest, 'Wald')}, {p_phrase(test.p)};"
    )
    shares = {r.measure: without_zero(r.combined) for r in rows_of(found.strength)}
    share = (
        f"R² = {shares['r2']}, adjusted {shares['r2_adjusted']}"
        if "r2" in shares
        else f"McFadden {shares['mcfadden']}, Tjur {shares['tjur']} (means)"
    )
    note = (
        f"{_at_references(fit)}{_combined(found)}{whole} {share}. FMI: fraction of missing information. {_errors(fit)}."
    )
    return Section(
        f"{fit.explained}: {fit.family.name} regression over {_how_many_times(found)}",
        note,
        (imputations_table(found, formal=True),),
    )


def _how_many_times(found: Imputations) -> str:
    return f"{len(found.fits)} {'imputations' if found.by else 'plausible values'}"


def _combined(found: Imputations) -> str:
    """Say of how many rows, and how, something was combined."""
    used = [f.sample.used for f in found.fits.values()]
    rows = f"n = {used[0]:,}" if len(set(used)) == 1 else f"n = {min(used):,} to {max(used):,}"
    return f"{rows} in each of {_how_many_times(found)}, combined by Rubin's rules with the degrees of freedom of Barnard and Rubin (1999)."


def _blocks_over_imputations(found: ImputedBlocks) -> Section:
    fit, steps = found.last.fit, rows_of(found.steps)
    if found.logistic:
        rows = [Row(("McFadden", *(without_zero(s.mcfadden) for s in steps)), "group")]
        rows.append(Row(("Tjur", *(without_zero(s.tjur) for s in steps))))
    else:
        measure = "R² within levels" if fit.fixed_effect_names else "R²"
        rows = [Row((measure, *(without_zero(s.r2) for s in steps)), "group")]
        rows.append(Row(("Change of R²", *(without_zero(s.r2_change) for s in steps))))
    rows.append(Row(("F of the change", *(number(s.statistic, 2) for s in steps))))
    rows += [Row(("df", *map(df_words, steps))), Row(("p", *(p_value(s.p) for s in steps)))]
    table = side_by_side(found.fits, found.names, formal=True)
    tests = "F of the coefficients a block adds, after Li, Raghunathan and Rubin (1991)."
    note = f"{_in_brackets(fit)} {_at_references(fit)}{_combined(found.last)} {tests} {_errors(fit)}."
    return Section(
        f"{fit.explained}, block by block, over {_how_many_times(found.last)}",
        note,
        (replace(table, rows=(*table.rows, *rows)),),
    )


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
    weights = f" Weights: {screen.counted.replace('`', '')}." if screen.counted else ""
    if screen.rows == "pairwise":
        low, high = int(screen.among.rows.min()), int(screen.among.rows.max())
        return f"{note} Each on the rows that have both, {low:,} to {high:,}; M and SD on {rows}.{weights}"
    if n > 3 and screen.method == "pearson" and screen.basis.weights is None:
        t = float(t_quantile(0.95, n - 2))
        note += (
            f" An r further from 0 than {without_zero(t / math.sqrt(n - 2 + t * t), 3)} has p < .05, taken by itself."
        )
    return f"{note[0].upper()}{note[1:]} {rows}.{weights}"


_TABLES: Mapping[type, Callable[[Any], Section]] = {
    Blocks: _steps,
    CoefficientSamples: _sampled,
    Comparison: _variants,
    Description: _sample,
    Dominance: _shares,
    Fit: _model,
    Imputations: _over_imputations,
    ImputedBlocks: _blocks_over_imputations,
    Reliability: _items,
    Screen: _associations,
    Subgroups: _each_level,
}
_WITH_BETAS: Mapping[type, Callable[[Any, bool], Section]] = {
    Blocks: _steps,
    Comparison: _variants,
    Fit: _model,
    Subgroups: _each_level,
}
"""Those in which coefficients may stand standardised as well."""
