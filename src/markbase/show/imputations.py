"""The fits of several imputations, combined, as a page in the order in which a fit is read."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

import pandas as pd

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
    plain,
    ratio_with_ends,
    share,
    short,
    value_with_ends,
    without_zero,
)
from markbase.core.reading.interaction_sentences import what_differs
from markbase.core.results.logistic import LogisticFit
from markbase.core.results.simple_slopes import SLOPE_FIGURES
from markbase.core.tables import own_name, records_of, rows_of
from markbase.show.equation import equation_section
from markbase.show.fit import reading_blocks, weights_words
from markbase.show.logistic import chances_section
from markbase.show.page import Facts, Page, Row, Section, Sentences, Strip, Table
from markbase.show.records import table_record
from markbase.show.statistics import (
    INTERCEPT,
    Statistic,
    coefficient_entries,
    coefficient_statistics,
    df_words,
    laid_out,
    scale_of,
)

_MOST_NAMED = 6
"""So many imputed columns, or imputations, are named."""
_INFINITE = 1e5
"""So many degrees of freedom, and more, are written as infinite."""
_MEASURES = {
    "r2": "R²",
    "r2_adjusted": "R² adjusted",
    "mcfadden": "McFadden's R²",
    "nagelkerke": "Nagelkerke's R²",
    "tjur": "Tjur's R²",
    "brier": "Brier score",
}


Slopes = Sequence[tuple[str, str | None]]
"""Numeric columns whose slopes are told, each with its moderator."""
Places = Mapping[str, Sequence[float]]
"""Where numeric columns are held."""


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
        section = _group(found, group, correction)
        sections.append(replace(section, title=f"{len(sections) + 1}  {section.title}"))
    for numeric, by in slopes:
        section = _slopes(found, numeric, by, at)
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
        Statistic("df", "df", "df", lambda r: f"{r.df:,.0f}" if r.df < _INFINITE else "∞"),
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


def _group(found: Imputations, group: str, correction: str) -> Section:
    """Describe every level of a group, and every pair of them."""
    heading = f"The levels of {group}, and every pair"
    if reason := found.not_averaged(group):
        return Section(heading, blocks=(Sentences(((reason, ()),)),))
    factor, fit = found.family.factor, found.fit
    levels = []
    for r in rows_of(found.groups(group)):
        decimals = decimals_for((r.adjusted_high - r.adjusted_low) * factor / 4)
        at = value_with_ends(factor * r.adjusted, factor * r.adjusted_low, factor * r.adjusted_high, decimals)
        if r.base:
            levels.append(Row((r.level, f"{round(r.n):,}", at[0], from_to(*at[1:]), "0", "base", ""), "base"))
            continue
        told = value_with_ends(factor * r.difference, factor * r.low, factor * r.high, decimals_for(factor * r.se))
        levels.append(
            Row((r.level, f"{round(r.n):,}", at[0], from_to(*at[1:]), told[0], from_to(*told[1:]), p_value(r.p)))
        )
    percent = f"{short(100 * found.level, 4)}% CI"
    heads = ("level", "rows", "adjusted", percent, "difference", percent, "p")
    table = Table(heads, tuple(levels), frozenset(range(1, 7)), 0)
    adjusted = fit.family.adjusted(fit.outcome)
    rows = "; rows: means" if found.by else ""
    note = f"{adjusted}; adjusted: as if all rows had this level; differences from the base{rows}"
    minded = tuple(("mind", words) for words in _about_averages(found, group))
    return Section(heading, note, (table, *([Facts(minded)] if minded else []), _pairs(found, group, correction)))


def _slopes(found: Imputations, numeric: str, by: str | None, at: Places | None) -> Section:
    """Describe simple slopes of a numeric column, at chosen values or within the levels of a group."""
    fit, table = found.fit, found.simple_slopes(numeric, by=by, at=at)
    keys = [c for c in table.columns[: list(table.columns).index("slope")] if c not in ("level", "base", "n")]
    held = [own_name(SLOPE_FIGURES, key) for key in keys]
    scale, rows = scale_of(float(table["low"].min()), float(table["high"].max())), []
    for r in records_of(table):
        decimals = decimals_for(float(r["se"]))
        size, *ends = value_with_ends(r["slope"], r["low"], r["high"], decimals)
        place = [f"{by} {r['level']}"] if "level" in r else []
        place += [f"{name} = {plain(r[key], 4)}" for name, key in zip(held, keys, strict=True)]
        df = f"{r['df']:,.0f}" if r["df"] < _INFINITE else "∞"
        cells = (", ".join(place) or "everywhere", size, number(r["se"], decimals), from_to(*ends), p_value(r["p"]), df)
        rows.append(Row(cells, "plain", Strip(r["low"], r["slope"], r["high"], *scale)))
    heads = ("where", "slope", "se", f"{short(100 * found.level, 4)}% CI", "p", "df")
    step = fit.variable(numeric, "numeric").column.step_one
    chosen = [name for name in held if name not in (at or {})]
    both = [name for name in chosen if fit.variable(name, "numeric").column.two_values is not None]
    rest = [name for name in chosen if name not in both]
    middle = f"{listed(both)} at both values; " if both else ""
    middle += f"{listed(rest)} at the mean and a standard deviation below and above, inside the rows; " if rest else ""
    note = f"in {fit.family.scale(fit.outcome)} per {step}; {middle}what is not named is averaged over the rows"
    facts = _whether_they_differ(found, numeric, by, table)
    if fit.family.shares:
        facts.append(("mind", "a slope, or a difference of slopes, in log odds is not one in probability"))
    other = [f"`{n}`" for n in fit.slope_depends_on(numeric) if n not in (numeric, by, *held)]
    if other:
        words = f"in this model the slope differs by {listed(other)}{' as well' if by or held else ''}: here it is averaged over the rows"
        facts.append(("mind", words))
    blocks = (Table(heads, tuple(rows), frozenset(range(1, 6)), 0, "lower ┊ higher"),)
    title = f"Simple slopes of {numeric}" + (f" by {by}" if by else "")
    return Section(title, note, (*blocks, *([Facts(tuple(facts))] if facts else [])))


def _whether_they_differ(
    found: Imputations, numeric: str, by: str | None, table: pd.DataFrame
) -> list[tuple[str, str]]:
    """Say what the test of the interaction tells of slopes that stand side by side; nothing where none is of them alone."""
    told = [t for t in found.model_terms if by and {numeric, by} <= set(t.names)]
    if [set(t.names) for t in told] != [{numeric, by}]:
        return []
    test = next(r for r in rows_of(found.terms) if r.term == told[0].name)
    if math.isnan(test.p):
        return []
    figures = f"{figures_of(test.statistic, test.df, test.df_rest, 'Wald')}, {p_phrase(test.p)}"
    if test.p < found.fit.alpha:
        return [(f"do they differ by {by}", f"{figures}: they do")]
    facts = [(f"do they differ by {by}", f"{figures}: no clear evidence that they do")]
    if (table["p"] < found.fit.alpha).nunique() > 1:
        facts.append(("mind", "clear in one place and not in another is no evidence that the slope differs"))
    return facts


def _about_averages(found: Imputations, group: str) -> list[str]:
    """Say which interactions of a group are clear, so that differences told of it are averages."""
    told, tests = [], {r.term: r for r in rows_of(found.terms)}
    for term in found.model_terms:
        others, test = [name for name in term.names if name != group], tests[term.name]
        if group in term.names and others and test.p < found.fit.alpha:
            differs = what_differs(term, True, " in log odds" if found.family.ratios else "")
            figures = f"{figures_of(test.statistic, test.df, test.df_rest, 'Wald')}, {p_phrase(test.p)}"
            told.append(
                f"{differs[0].lower()}{differs[1:]} ({figures}): the differences told here are averages over the rows, and not the same at every "
                f"{' and '.join(quoted(others))}"
            )
    return told


def _pairs(found: Imputations, group: str, correction: str) -> Table:
    ratios = found.family.ratios
    rows = []
    for r in rows_of(found.between(group, correction)):
        if ratios:
            told = ratio_with_ends(r.odds_ratio, r.odds_low, r.odds_high, r.se)
        else:
            told = value_with_ends(r.difference, r.low, r.high, decimals_for(r.se))
        size = told[0], from_to(*told[1:])
        rows.append(Row((f"{r.level} against {r.against}", *size, p_value(r.p), p_value(r.p_corrected))))
    what = "odds ratio" if ratios else "difference"
    heads = ("pair", what, f"{short(100 * found.level, 4)}% CI", "p", f"p, {correction}")
    return Table(heads, tuple(rows), frozenset({1, 2, 3, 4}), 0)


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
