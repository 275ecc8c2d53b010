"""The fits of several imputations, combined, as a page in the order in which a fit is read."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from markbase.core.comparison.imputations import Imputations
from markbase.core.errors import count_noun, listed, quoted
from markbase.core.formatting import (
    as_percent,
    decimals_for,
    figures_of,
    from_to,
    number,
    p_phrase,
    p_value,
    share,
    without_zero,
)
from markbase.core.results.logistic import LogisticFit
from markbase.core.tables import rows_of
from markbase.show.equation import equation_section
from markbase.show.fit import reading_blocks, weights_words
from markbase.show.imputed_levels import INFINITE, Places, Slopes, group_section_over, slopes_section_over
from markbase.show.logistic import chances_section
from markbase.show.page import Facts, Page, Row, Section, Table
from markbase.show.records import table_record
from markbase.show.statistics import (
    INTERCEPT,
    Statistic,
    coefficient_entries,
    coefficient_statistics,
    df_words,
    laid_out,
)

_MOST_NAMED = 6
"""So many imputed columns, or imputations, are named."""
_MEASURES = {
    "r2": "R²",
    "r2_adjusted": "R² adjusted",
    "mcfadden": "McFadden's R²",
    "nagelkerke": "Nagelkerke's R²",
    "tjur": "Tjur's R²",
    "brier": "Brier score",
}


def imputations_page(
    found: Imputations,
    groups: Sequence[str] = (),
    correction: str = "holm",
    slopes: Slopes = (),
    at: Places | None = None,
) -> Page:
    """Describe the combined fits of several imputations; of some groups every level and every pair as well, and simple slopes."""
    fit, m = found.fit, len(found.fits)
    kind = "imputations" if found.by else "plausible values"
    unit = (
        f"odds ratios of {fit.family.observed(fit.outcome)}"
        if fit.family.ratios
        else f"in {fit.family.scale(fit.outcome)}"
    )
    note = f"{unit}; df are those of t; ┊ is {1 if fit.family.ratios else 0}"
    sections = [
        Section(
            "1  Which rows, and what was imputed" if found.by else "1  Which rows",
            blocks=(Facts(tuple(which_rows(found))),),
        ),
        Section("2  Does the model say anything", blocks=(Facts(tuple(_whether(found))),)),
        Section("3  How much", "combined, and in the single fits", (_how_much(found),)),
        Section("4  Which terms", _terms_note(found), _terms(found)),
        Section("5  Which coefficients, against which base", note, (imputations_table(found), _legend(found))),
    ]
    if isinstance(fit, LogisticFit):
        sections.append(
            chances_section(found, str(fit.event), "the rows of each imputation" if found.by else "these rows")
        )
    sections.append(equation_section(f"{len(sections) + 1}  ", found.equation(), fit.fixed_effect_names))
    for group in groups:
        section = group_section_over(found, group, correction)
        sections.append(replace(section, title=f"{len(sections) + 1}  {section.title}"))
    for numeric, by in slopes:
        section = slopes_section_over(found, numeric, by, at)
        sections.append(replace(section, title=f"{len(sections) + 1}  {section.title}"))
    sections.append(Section(f"{len(sections) + 1}  In words", blocks=reading_blocks(found.reading())))
    title = f"{fit.family.observed(fit.outcome)}: {fit.family.name} regression on {count_noun(len(found.model_terms), 'term')}, combined over {m} {kind}"
    return Page(title, fit.data_name, tuple(sections))


def which_rows(found: Imputations) -> list[tuple[str, str]]:
    """Say how many imputations there are, of which rows, and what was imputed."""
    fits, imputed = found.fits, found.imputed
    used = [fit.sample.used for fit in fits.values()]
    rows = [fit.sample.rows for fit in fits.values()]
    told = []
    if found.by:
        labels = list(fits)
        names = listed(labels) if len(labels) <= _MOST_NAMED else f"{labels[0]} to {labels[-1]}"
        told.append(("imputations", f"{len(fits)} (`{found.by}` {names}), combined by Rubin's rules"))
        if imputed.original:
            told.append(
                (
                    "left out",
                    f"`{found.by}` {imputed.original}: more is missing in it than in any other, so it is the data before imputation",
                )
            )
    else:
        told.append(
            ("plausible values", f"{len(fits)} ({listed(quoted(fits))}), a fit for each, combined by Rubin's rules")
        )
    alike = len(set(used)) == len(set(rows)) == 1
    told.append(
        ("complete cases", f"{used[0]:,} of {count_noun(rows[0], 'row')} ({share(used[0], rows[0])}) in each")
        if alike
        else (
            "complete cases",
            f"{min(used):,} to {max(used):,} of {once_or_both([f'{min(rows):,}', f'{max(rows):,}'])} rows, not as many in each: are gaps left?",
        )
    )
    if found.by:
        told.append(("imputed", _imputed(found)))
    if isinstance(found.fit, LogisticFit):
        rates = [fit.rate for fit in fits.values() if isinstance(fit, LogisticFit)]
        told.append(
            (
                "event",
                f"`{found.fit.outcome.name}` = `{found.fit.event}` in {once_or_both([as_percent(r) for r in (min(rates), max(rates))])} of the rows used; the other side is `{found.fit.otherwise}`",
            )
        )
    if weighed := weights_words(found.fit):
        told.append(("weights", weighed))
    return told


def once_or_both(shown: Sequence[str]) -> str:
    """Write the lowest and the highest, once where they are the same."""
    return shown[0] if shown[0] == shown[-1] else from_to(shown[0], shown[-1])


def _imputed(found: Imputations) -> str:
    imputed = found.imputed
    if imputed.columns is None:
        return f"not counted: {imputed.unmatched}"
    there = sorted(((n, name) for name, n in imputed.columns.items() if n), reverse=True)
    shown = [f"`{name}` in {n:,} rows ({share(n, imputed.rows)})" for n, name in there[:_MOST_NAMED]]
    if len(there) > _MOST_NAMED:
        shown.append(count_noun(len(there) - _MOST_NAMED, "more column"))
    whole = [name for name, n in imputed.columns.items() if not n and name not in imputed.more]
    if not there and not imputed.more:
        why = "have no gap in the data before imputation" if imputed.original else "are the same in all imputations"
        return f"nothing: the columns of the model {why}"
    how = ", which are those that differ between the imputations" if not imputed.original else ""
    told = [f"{listed(shown)}{how}"] if shown else []
    if whole and len(whole) <= _MOST_NAMED:
        told.append(f"{'nothing missing before' if imputed.unmatched else 'the same in all'}: {listed(quoted(whole))}")
    if imputed.more:
        rows = [f"`{name}` in {count_noun(n, 'row')}" for name, n in imputed.more.items()][:_MOST_NAMED]
        told.append(f"not the same in all, though not missing before: {listed(rows)} (derived from what was imputed?)")
    return "; ".join(told)


def _whether(found: Imputations) -> list[tuple[str, str]]:
    test, fit = found.overall, found.fit
    if math.isnan(test.statistic):
        words = [("not tested", test.untested or "no test could be computed")]
    else:
        figures = f"{figures_of(test.statistic, test.df, test.df_rest, 'Wald')}, {p_phrase(test.p)}"
        told = (
            "together the terms tell something about"
            if test.p < fit.alpha
            else "no clear evidence that the terms together tell anything about"
        )
        words = [
            (
                figures,
                f"{told} `{fit.outcome.name}`",
            )
        ]
    if isinstance(fit, LogisticFit) and fit.penalty:
        words.append(("penalty", "penalised likelihoods (Firth), combined and tested by their curvature (Wald)"))
    return [*words, errors_fact(found)]


def errors_fact(found: Imputations) -> tuple[str, str]:
    """Say what the standard errors are."""
    what = "imputations" if found.by else "plausible values"
    return "errors", f"{found.fit.errors.words}, with what differs between the {what} added"


def _how_much(found: Imputations) -> Table:
    rows = []
    for r in rows_of(found.strength):
        cells = [r.combined, r.lowest, r.highest]
        if r.measure == "residual_sd":
            unit = found.fit.outcome.step_many
            shown = [number(v, decimals_for(r.combined, 3)) for v in cells]
            label = f"residual standard deviation, {unit}"
        else:
            shown, label = [without_zero(v) for v in cells], _MEASURES[r.measure]
        rows.append(Row((label, shown[0], once_or_both(shown[1:]))))
    return Table(("", "combined", "in single ones"), tuple(rows), frozenset({1, 2}), 0)


def _terms_note(found: Imputations) -> str:
    kind = "F on df" if not found.family.ratios else "F on df, of Wald's kind"
    note = f"each given all the others; {kind}; a group is tested as a whole"
    if any(t.kind == "interaction" for t in found.model_terms):
        note += "; a term inside another is tested at the other's base, or at 0"
    return note


def _terms(found: Imputations) -> tuple[Table | Facts, ...]:
    rows = []
    for r in rows_of(found.terms):
        if math.isnan(r.statistic):
            rows.append(Row((r.term, f"{r.df}", "–", "not tested"), "aside"))
        else:
            rows.append(Row((r.term, df_words(r), number(r.statistic, 2), p_value(r.p))))
    table = Table(("term", "df", "F", "p"), tuple(rows), frozenset({1, 2, 3}), 0)
    why = tuple((name, f"not tested: {reason}") for name, reason in found.untested.items())
    return (table, Facts(why)) if why else (table,)


def imputations_table(found: Imputations, *, formal: bool = False) -> Table:
    """Return the combined coefficients, with degrees of freedom and missing information; `formal` is for a manuscript."""
    first = "(intercept), odds" if found.family.ratios else INTERCEPT
    statistics = [
        *coefficient_statistics(found),
        Statistic("df", "df", "df", lambda r: f"{r.df:,.0f}" if r.df < INFINITE else "∞"),
        Statistic("missing", "missing", "FMI", lambda r: as_percent(r.missing_information)),
    ]
    entries = list(coefficient_entries(found, first, formal=formal))
    return laid_out("term, level", statistics, entries, formal=formal, strip_head="lower ┊ higher")


def _legend(found: Imputations) -> Facts:
    known = "without gaps" if found.by else "with the outcome known"
    return Facts(
        (
            (
                "missing",
                f"the share of what the rows would tell of a coefficient {known} that is lost (fraction of missing information)",
            ),
        )
    )


def imputations_record(
    found: Imputations,
    groups: Sequence[str] = (),
    correction: str = "holm",
    slopes: Slopes = (),
    at: Places | None = None,
) -> dict[str, Any]:
    """Return them as plain data."""
    test = found.overall
    return {
        "by": found.by or None,
        "imputations": table_record(found.samples),
        "imputed": None if found.imputed.columns is None else dict(found.imputed.columns),
        "original": found.imputed.original or None,
        "overall": {
            "statistic": test.statistic,
            "df": test.df,
            "df_rest": test.df_rest,
            "p": test.p,
            "untested": test.untested or None,
        },
        "strength": table_record(found.strength),
        "terms": table_record(found.terms),
        "coefficients": table_record(found.coefficients),
        "probabilities": table_record(found.marginal) if isinstance(found.fit, LogisticFit) else None,
        "groups": {
            group: {"not_averaged": reason}
            if (reason := found.not_averaged(group))
            else {
                "levels": table_record(found.groups(group)),
                "pairs": table_record(found.between(group, correction)),
            }
            for group in groups
        },
        "slopes": {f"{n}:{by}" if by else n: table_record(found.simple_slopes(n, by=by, at=at)) for n, by in slopes},
        "statements": [s.text for s in found.reading().statements],
        "cautions": list(found.reading().cautions),
    }
