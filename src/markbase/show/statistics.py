"""Coefficients as rows of a table: each statistic described once, and laid out for a page, a manuscript, or models side by side."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, Protocol

import pandas as pd

from markbase.core.design.terms import Term
from markbase.core.formatting import (
    decimals_for,
    from_to,
    number,
    p_value,
    ratio,
    ratio_with_ends,
    short,
    value_with_ends,
)
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.coefficient_rows import label_of
from markbase.core.results.family import Family
from markbase.core.results.linear import LinearFit
from markbase.core.results.stored_fit import StoredFit
from markbase.core.tables import rows_of
from markbase.show.few_of_many import clearest
from markbase.show.page import LEVEL_INDENT, Page, Row, RowKind, Section, Strip, Table

INTERCEPT = "(intercept)"
BETA = "β"
OF_BETA = "numeric columns for one standard deviation of their own, levels as differences; by the standard deviations of these rows, so that other rows have others where coefficients do not differ"
_SCHEME_NOTES = {"effect": "against the mean", "adjacent": "step by step", "trend": "trends"}


class Coefficients(Protocol):
    """What has coefficients to be laid out: a fit, one that was saved, or several combined."""

    @property
    def coefficients(self) -> pd.DataFrame:
        """A row a coefficient, the bases among them."""
        ...

    @property
    def model_terms(self) -> Sequence[Term]:
        """The terms of the model."""
        ...

    @property
    def family(self) -> Family:
        """The kind of regression."""
        ...

    @property
    def exact(self) -> bool:
        """Whether errors mean nothing."""
        ...

    @property
    def level(self) -> float:
        """Confidence level of the intervals."""
        ...


@dataclass(frozen=True)
class Statistic:
    """A column of figures, wherever it is told."""

    key: str
    """What it is called in `Entry.given`."""
    label: str
    """What stands above it on a page; empty where a page does not show it."""
    formal: str
    """What stands above it in a manuscript; empty where a manuscript does not show it."""
    text: Callable[[Any], str]
    """From the row of a table to what stands in its cell."""


@dataclass(frozen=True)
class Entry:
    """A row, before it is known which statistics are shown."""

    label: str
    """What it is about."""
    kind: RowKind = "plain"
    """As that of `Row`."""
    row: Any = None
    """The figures; None for a heading."""
    given: Mapping[str, str] = field(default_factory=dict)
    """What stands in a row that is not plain, by the keys of statistics."""
    strip: Strip | None = None
    """What is drawn at its end."""


def laid_out(
    head: str, statistics: Sequence[Statistic], entries: Sequence[Entry], *, formal: bool = False, strip_head: str = ""
) -> Table:
    """Lay entries out as a table: on a page with its drawings, or as a manuscript has it."""
    heads = [(s, s.formal if formal else s.label) for s in statistics]
    shown = [(s, text) for s, text in heads if text]
    rows = tuple(
        Row(
            (e.label, *(s.text(e.row) if e.kind == "plain" else e.given.get(s.key, "") for s, _ in shown)),
            e.kind,
            None if formal else e.strip,
        )
        for e in entries
    )
    texts = ("" if formal else head, *(text for _, text in shown))
    return Table(texts, rows, frozenset(range(1, len(texts))), 0, "" if formal else strip_head)


def scale_of(low: float, high: float) -> tuple[float, float]:
    """Return a scale that includes 0, with a little room on the other side of it."""
    low, high = min(low, 0.0), max(high, 0.0)
    room = 0.08 * (high - low) or 1.0
    return (low - room if low < 0 else -room), (high + room if high > 0 else room)


def coefficients_table(fit: AnyFit | StoredFit, *, formal: bool = False, standardised: bool = False) -> Table:
    """Return the coefficients of a fit, headings for groups, the base of each group in its row; `formal` is for a manuscript.

    There a linear fit may have its coefficients `standardised` as well.
    """
    first = "(intercept), odds" if fit.family.ratios else INTERCEPT
    entries = list(coefficient_entries(fit, first, formal=formal))
    entries = entries if formal else _clearest(entries)
    statistics = list(coefficient_statistics(fit))
    if standardised and isinstance(fit, LinearFit):
        cells = _standardised_cells(fit)
        beta = Statistic("beta", "", BETA, lambda r: cells.get((r.term, r.level), ""))
        statistics.insert(1 + next(k for k, s in enumerate(statistics) if s.key == "se"), beta)
    return laid_out("term, level", statistics, entries, formal=formal, strip_head="lower ┊ higher")


def _clearest(entries: Sequence[Entry]) -> list[Entry]:
    """Return entries without those of the higher p in terms of very many: how many these are stands in their place."""
    found: list[Entry] = []
    for term, group in itertools.groupby(entries, lambda e: e.row.term if e.row is not None and e.row.level else ""):
        own = list(group)
        if term:
            kept, others = clearest([e.row for e in own])
            places = {id(row) for row in kept}
            own = [*(e for e in own if id(e.row) in places), *([Entry(others, "aside")] if others else [])]
        found += own
    return found


def coefficient_entries(fit: Coefficients, first: str = INTERCEPT, *, formal: bool = False) -> Iterator[Entry]:
    """Yield the rows of a table of coefficients."""
    rows = rows_of(fit.coefficients)
    yield _coefficient(fit, rows[0], first, None, None)
    for term in fit.model_terms:
        own = [r for r in rows[1:] if r.term == term.name]
        scale = scale_over(own)
        if len(own) == 1 and not own[0].level:
            yield _coefficient(fit, own[0], _single_label(term), term, scale)
            continue
        scheme = _SCHEME_NOTES.get(term.groups[0].column.scheme, "") if len(term.groups) == 1 else ""
        yield Entry(term.name, "group", None, {"interval": scheme})
        for row in own:
            if not (len(term.groups) > 1 and row.base):  # the bases stand with the groups themselves
                yield _coefficient(fit, row, LEVEL_INDENT + _compared_label(term, row), term, scale, formal)


def scale_over(rows: Sequence[Any]) -> tuple[float, float]:
    """Return a scale for the intervals of some rows, which may lack one."""
    known = [r for r in rows if not math.isnan(r.low)]
    return scale_of(min((r.low for r in known), default=0.0), max((r.high for r in known), default=0.0))


def _single_label(term: Term) -> str:
    """Return how the only coefficient of a term is headed."""
    return f"{term.name}, per {term.column.step_one}" if term.kind == "numeric" and term.column.unit else term.name


def _compared_label(term: Term, row: Any) -> str:
    """Return how the row of a level is headed under its scheme."""
    return f"{row.level} after {row.against}" if term.column.scheme == "adjacent" else str(row.level)


def _coefficient(
    fit: Coefficients,
    row: Any,
    label: str,
    term: Term | None,
    scale: tuple[float, float] | None,
    formal: bool = False,
) -> Entry:
    n = {"n": f"{round(row.n):,}" if row.level and (row.against or row.base) else ""}
    if row.base and term is not None:
        base = term.groups[-1].column.base
        words = "base" if formal or (base and base.chosen) else "base, not chosen"
        given = {"estimate": "0", "ratio": "1", "interval": words}
        return Entry(label, "base", row, n | given, Strip(0, 0, 0, *scale, is_base=True) if scale else None)
    if math.isnan(row.estimate):
        return Entry(label, "aside", row, n | {"estimate": "–", "ratio": "–", "interval": "no such rows"})
    if math.isnan(row.se):
        ratios = fit.family.ratios
        estimate = short(row.estimate) if ratios else number(row.estimate, decimals_for(abs(row.estimate) or 1.0, 3))
        given = {"estimate": estimate, "se": "–", "interval": "no standard error"}
        return Entry(label, "aside", row, n | given | ({"ratio": ratio(row.odds_ratio)} if ratios else {}))
    return Entry(label, "plain", row, n, Strip(row.low, row.estimate, row.high, *scale) if scale else None)


def coefficient_statistics(fit: Coefficients) -> tuple[Statistic, ...]:
    """Return what is told of each coefficient, in the order of the columns."""
    percent = f"{short(100 * fit.level, 4)}% CI"

    def rows(r: Any) -> str:
        return f"{round(r.n):,}" if r.level and (r.against or r.base) else ""

    def odds(r: Any) -> tuple[str, str, str]:
        return ratio_with_ends(float(r.odds_ratio), float(r.odds_low), float(r.odds_high), float(r.se))

    def decimals(r: Any) -> int:
        return decimals_for(abs(float(r.estimate)) or 1, 6) if fit.exact else decimals_for(float(r.se))

    def ends(r: Any) -> tuple[str, str, str]:
        return value_with_ends(r.estimate, r.low, r.high, decimals(r))

    counted = Statistic("n", "rows", "", rows)
    se = Statistic("se", "se", "SE", lambda r: number(r.se, decimals(r)))
    p = Statistic("p", "p", "p", lambda r: p_value(r.p))
    if fit.family.ratios:
        return (
            counted,
            Statistic("ratio", "ratio", "Odds ratio", lambda r: odds(r)[0]),
            Statistic("interval", percent, percent, lambda r: from_to(*odds(r)[1:])),
            Statistic("estimate", "log odds", "Log odds", lambda r: number(r.estimate, decimals(r))),
            se,
            p,
        )
    return (
        counted,
        Statistic("estimate", "estimate", "Estimate", lambda r: ends(r)[0]),
        se,
        Statistic("interval", percent, percent, lambda r: from_to(*ends(r)[1:])),
        p,
    )


def df_words(row: Any) -> str:
    """Write the degrees of freedom of a test that is a row of a table, `df` and `df_rest`: of chi-squared the first alone."""
    return f"{row.df:.0f}" + (f", {row.df_rest:.0f}" if math.isfinite(row.df_rest) else "")


def side_by_side(
    fits: Sequence[Coefficients], names: Sequence[str], *, formal: bool = False, standardised: bool = False
) -> Table:
    """Return the coefficients of fits side by side, standard errors in brackets, a row for each base.

    Terms that come with a later one stand behind those of the earlier. Of terms of very many levels the clearest stand there, but for a
    manuscript. With linear fits may stand what their coefficients are when `standardised`, behind each.
    """
    cells: dict[tuple[str, str | None], dict[str, str]] = {}
    entries: dict[tuple[str, str | None], Entry] = {}
    for fit, name in zip(fits, names, strict=True):
        for entry in coefficient_entries(fit, formal=formal):
            key = (entry.label, None) if entry.row is None else (entry.row.term, entry.row.level)
            cells.setdefault(key, {})[name] = _beside(entry)
            known = entries.setdefault(key, entry)
            if entry.row is not None and known.row is not None and entry.row.p < known.row.p:
                entries[key] = entry
    places = {id(entry): key for key, entry in entries.items()}
    shown = list(entries.values()) if formal else _clearest(list(entries.values()))
    by = [(entry, cells.get(places.get(id(entry), ("", None)), {})) for entry in shown]
    betas = {
        n: _standardised_cells(f) for n, f in zip(names, fits, strict=True) if standardised and isinstance(f, LinearFit)
    }

    def told(entry: Entry, own: Mapping[str, str]) -> Iterator[str]:
        for name in names:
            yield own.get(name, "")
            if name in betas:
                yield "" if entry.row is None else betas[name].get((entry.row.term, entry.row.level), "")

    rows = tuple(Row((entry.label, *told(entry, own)), entry.kind) for entry, own in by)
    heads = ("" if formal else "term, level", *(head for n in names for head in (n, BETA)[: 1 + (n in betas)]))
    return Table(heads, rows, frozenset(range(1, len(heads))), 0)


def with_betas(page: Page, fits: Iterable[AnyFit], names: Sequence[str], wanted: bool) -> Page:
    """Return a page with a section more, if wanted: the coefficients of its linear fits in standard deviations of the outcome."""
    linear = [fit for fit in fits if isinstance(fit, LinearFit)]
    return replace(page, sections=(*page.sections, standardised_beside(linear, names))) if wanted and linear else page


def standardised_beside(fits: Sequence[LinearFit], names: Sequence[str]) -> Section:
    """Return the coefficients of linear fits in standard deviations of the outcome, side by side."""
    entries: dict[tuple[str, str], Entry] = {}
    for fit in fits:
        for entry in coefficient_entries(fit):
            if entry.row is not None and entry.row.term != INTERCEPT:
                entries.setdefault((entry.row.term, entry.row.level), entry)
    cells = [
        {**_standardised_cells(fit), **{(r.term, r.level): "base" for r in rows_of(fit.standardised) if r.base}}
        for fit in fits
    ]
    rows = [Row((label_of(*key), *(own.get(key, "") for own in cells)), entry.kind) for key, entry in entries.items()]
    table = Table(("term, level", *names), tuple(rows), frozenset(range(1, len(names) + 1)), 0)
    return Section("In standard deviations of the outcome", OF_BETA, (table,))


def _standardised_cells(fit: LinearFit) -> dict[tuple[str, str], str]:
    """Return the coefficients of a fit in standard deviations of the outcome, by term and level; none of a base."""
    return {
        (r.term, r.level): number(r.estimate, max(2, decimals_for((r.high - r.low) / 4, 1)))
        for r in rows_of(fit.standardised)
        if not r.base and not math.isnan(r.estimate)
    }


def _beside(entry: Entry) -> str:
    if entry.kind == "base" or entry.row is None:
        return "base" if entry.row is not None else ""
    value, se = float(entry.row.estimate), float(entry.row.se)
    if math.isnan(value):
        return ""
    return f"{number(value, decimals_for(se))} ({number(se, decimals_for(se))})"
