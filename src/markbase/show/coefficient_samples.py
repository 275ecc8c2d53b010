"""The coefficients of a fit in samples drawn out of its rows: a page and its record."""

from __future__ import annotations

from typing import Any

from markbase.core.comparison.coefficient_samples import CoefficientSamples
from markbase.core.formatting import decimals_for, from_to, number, ratio_with_ends, short, value_with_ends
from markbase.core.results.coefficient_rows import label_of
from markbase.core.tables import rows_of
from markbase.show.fit import what_is_read
from markbase.show.page import Facts, Page, Row, Section, Sentences, Table
from markbase.show.records import table_record


def samples_page(found: CoefficientSamples) -> Page:
    """Describe the coefficients in samples drawn out of the rows, beside what the fit says of them."""
    return Page(f"{found.fit.explained}: coefficients in samples", what_is_read(found.fit), samples_sections(found))


def samples_sections(found: CoefficientSamples) -> tuple[Section, ...]:
    """Return the sections of that page, which may stand below a fit."""
    facts = (
        ("samples", found.words),
        ("bias", "the mean of the samples less the estimate"),
        ("se", "the standard deviation of the samples; beside it that of the fit, by its errors"),
        (_interval(found), "percentiles of the samples, corrected for bias and accelerated (BCa)"),
    )
    note = "the same model, fitted to samples drawn out of the rows"
    return (
        Section("Coefficients in samples (bootstrap)", note, (samples_table(found), Facts(facts))),
        Section("What the samples say", blocks=(Sentences(tuple((text, ()) for text in found.statements)),)),
    )


def samples_table(found: CoefficientSamples, formal: bool = False) -> Table:
    """Return each coefficient in the samples, beside what the fit says of it; `formal` with the headings of a manuscript."""
    ratios, interval = found.fit.family.ratios, _interval(found)
    rows = tuple(Row(_cells(r, ratios), "base" if r.base else "plain") for r in rows_of(found.table))
    own = ("ratio", interval, "log odds") if ratios else ("estimate", interval)
    heads = ("term, level", *own, "bias", "se", "se of the fit", f"{interval} of the fit")
    if formal:
        own = ("Odds ratio", interval, "Log odds") if ratios else ("Estimate", interval)
        heads = ("", *own, "Bias", "SE", "SE of the fit", f"{interval} of the fit")
    return Table(heads, rows, frozenset(range(1, len(heads))), 0)


def _interval(found: CoefficientSamples) -> str:
    return f"{short(100 * found.fit.level, 4)}% CI"


def _cells(row: Any, ratios: bool) -> tuple[str, ...]:
    name = label_of(row.term, row.level)
    if row.base:
        return (name, *(("1", "base", "0") if ratios else ("0", "base")), *[""] * 4)
    if not row.se >= 0:
        return (name, *["–"] * (7 if ratios else 6))
    decimals = decimals_for(row.se)
    size, *ends = value_with_ends(row.estimate, row.low, row.high, decimals)
    told: tuple[str, ...] = (size, from_to(*ends))
    fitted = value_with_ends(row.estimate, row.fit_low, row.fit_high, decimals)[1:]
    if ratios:
        own, *ends = ratio_with_ends(row.odds_ratio, row.odds_low, row.odds_high, row.se)
        told = (own, from_to(*ends), size)
        fitted = ratio_with_ends(row.odds_ratio, row.odds_fit_low, row.odds_fit_high, row.se)[1:]
    return (
        name,
        *told,
        number(row.bias, decimals),
        number(row.se, decimals),
        number(row.fit_se, decimals),
        from_to(*fitted),
    )


def samples_record(found: CoefficientSamples) -> dict[str, Any]:
    """Return it as plain data, without the samples themselves."""
    return {
        "draws": found.draws,
        "failed": found.failed,
        "seed": found.seed,
        "table": table_record(found.table),
        "statements": list(found.statements),
    }
