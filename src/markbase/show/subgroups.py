"""The same model in each level of a group as a page: how much it says in each, coefficients side by side, and whether they differ."""

from __future__ import annotations

import math
from typing import Any

from markbase.core.comparison.subgroups import Subgroups
from markbase.core.errors import count_noun, listed, quoted
from markbase.core.formatting import decimals_for, number, p_value, share, without_zero
from markbase.core.reading.clauses import compared_at
from markbase.core.results.coefficient_rows import label_of
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.tables import rows_of
from markbase.show.fit import errors_text
from markbase.show.page import Facts, Page, Row, Section, Sentences, Table
from markbase.show.records import table_record
from markbase.show.statistics import df_words, side_by_side


def subgroups_page(found: Subgroups) -> Page:
    """Describe the fits of a model in each level of a group."""
    first = next(iter(found.fits.values()))
    sections = [
        Section("1  Which rows", blocks=(Facts(tuple(_which_rows(found))),)),
        Section("2  How much it says in each", blocks=(_strength(found), Facts((_errors(found),)))),
        Section(
            "3  Coefficients", _coefficients_note(found), (side_by_side(list(found.fits.values()), list(found.fits)),)
        ),
    ]
    if isinstance(first, LogisticFit):
        note = f"of {first.outcome.name} = {first.event}, averaged over the rows of each level; percentage points, standard errors in brackets"
        sections.append(Section("4  In probability", note, (_probabilities(found),)))
    if found.pooled is not None:
        sections.append(
            Section(f"{len(sections) + 1}  Do the coefficients differ", _tests_note(found), (_tests(found),))
        )
    said = Sentences(tuple((text, ()) for text in found.statements))
    sections.append(Section(f"{len(sections) + 1}  In words", blocks=(said,)))
    terms = count_noun(len(first.model_terms), "term")
    title = f"{first.explained}, in each level of {found.by.name}: {first.family.name} regression on {terms}"
    return Page(title, first.data_name, tuple(sections))


def _which_rows(found: Subgroups) -> list[tuple[str, str]]:
    there = sum(found.counts.values())
    told = [
        ("rows", f"{there:,} of {found.rows:,} ({share(there, found.rows)}): those with a level of `{found.by.name}`")
    ]
    used = [f"{label} {fit.sample.used:,} of {found.counts[label]:,}" for label, fit in found.fits.items()]
    told.append(("complete cases", ", ".join(used)))
    if weighting := next(iter(found.fits.values())).weighting:
        told.append(("weights", weighting.short))
    told += [(f"not in {label}", why) for label, why in found.refused.items()]
    if found.left_out:
        told.append(("left out", f"{listed(quoted(found.left_out))}: the same in all rows of a level"))
    return told


def _strength(found: Subgroups) -> Table:
    rows = []
    for r in rows_of(found.strength):
        if "residual_sd" in found.strength:
            spread = number(r.residual_sd, decimals_for(r.residual_sd, 3))
            rows.append(Row((str(r.group), f"{r.rows:,}", without_zero(r.r2), without_zero(r.r2_adjusted), spread)))
        else:
            rows.append(
                Row((str(r.group), f"{r.rows:,}", f"{r.events:,}", without_zero(r.mcfadden), without_zero(r.tjur)))
            )
    figures = ("R²", "adjusted", "residual sd") if "residual_sd" in found.strength else ("events", "McFadden", "Tjur")
    return Table((found.by.name, "rows", *figures), tuple(rows), frozenset({1, 2, 3, 4}), 0)


def _errors(found: Subgroups) -> tuple[str, str]:
    """Say what the errors of each fit rest on, and what those of one fit to all of these rows might."""
    beside = errors_text(found.pooled).partition(". ")[2] if found.pooled is not None else ""
    return "errors", ". ".join(filter(None, [next(iter(found.fits.values())).errors.words, beside]))


def _coefficients_note(found: Subgroups) -> str:
    first = next(iter(found.fits.values()))
    unit = f"in {first.outcome.unit_many} of {first.outcome.name}" if isinstance(first, LinearFit) else "in log odds"
    return f"{unit}; standard errors in brackets"


def _probabilities(found: Subgroups) -> Table:
    cells: dict[tuple[str, str], dict[str, str]] = {}
    for r in rows_of(found.probabilities):
        cells.setdefault((r.term, r.level), {})[r.group] = "base" if r.base else _points(r.effect, r.se)
    columns = {v.name: v.column for fit in found.fits.values() for v in fit.variables}
    rows = []
    for (term, level), own in cells.items():
        label = label_of(term, level) if level else f"{term}, {compared_at(columns[term])}"
        rows.append(
            Row((label, *(own.get(name, "") for name in found.fits)), "base" if "base" in own.values() else "plain")
        )
    return Table(("term, level", *found.fits), tuple(rows), frozenset(range(1, len(found.fits) + 1)), 0)


def _points(effect: float, se: float) -> str:
    """Write a difference of probabilities in percentage points, with its standard error if it has one."""
    if not math.isfinite(effect):
        return "–"
    if not math.isfinite(se):
        return number(100 * effect, 1)
    decimals = decimals_for(100 * se)
    return f"{number(100 * effect, decimals)} ({number(100 * se, decimals)})"


def _tests_note(found: Subgroups) -> str:
    assert found.pooled is not None
    errors = (
        found.pooled.errors.words
        if isinstance(found.pooled, LinearFit) or not found.pooled.by_likelihood
        else "likelihood ratios"
    )
    return f"one fit to all of these rows in which everything differs by {found.by.name}; {errors.replace('`', '')}"


def _tests(found: Subgroups) -> Table:
    kind = "F" if found.pooled is not None and math.isfinite(found.pooled.df_rest) else "chi²"
    rows = []
    for r in rows_of(found.tests):
        if math.isnan(r.statistic):
            rows.append(Row((r.term, f"{r.df}", "–", "not tested"), "aside"))
            continue
        rows.append(
            Row(
                (r.term, df_words(r), number(r.statistic, 2), p_value(r.p)),
                "group" if r.term.startswith("(") else "plain",
            )
        )
    return Table(("term", "df", kind, "p"), tuple(rows), frozenset({1, 2, 3}), 0)


def subgroups_record(found: Subgroups) -> dict[str, Any]:
    """Return it as plain data."""
    return {
        "by": found.by.name,
        "rows": found.rows,
        "levels": [
            {
                "level": label,
                "rows": found.counts[label],
                "used": found.fits[label].sample.used if label in found.fits else 0,
                "refused": found.refused.get(label),
            }
            for label in found.counts
        ],
        "left_out": list(found.left_out),
        "strength": table_record(found.strength),
        "estimates": table_record(found.estimates),
        "probabilities": table_record(found.probabilities) if len(found.probabilities) else None,
        "tests": table_record(found.tests),
        "untested": found.untold or None,
        "statements": list(found.statements),
    }
