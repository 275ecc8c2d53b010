"""Reading what a plan asks for beyond the data, checked before anything runs."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from markbase.core.design.requested_terms import request_name
from markbase.core.errors import near
from markbase.files.plan_checks import check_choices, check_keys, check_level
from markbase.files.plan_entries import (
    Analysis,
    CompareEntry,
    DescribeEntry,
    EliminationEntry,
    FitEntry,
    ReliabilityEntry,
    ScreenEntry,
)
from markbase.files.plan_fits import BLOCK_KEYS, FIT_KEYS, IMPUTATION_KEYS, fit_entry
from markbase.files.plan_lines import Lines

SCREEN_KEYS = ("limit_r", "limit_vif", "outcome", "terms", "weights", "weights_are")
COMPARE_KEYS = ("fits", "name")
ELIMINATION_KEYS = ("fit", "keep", "limit", "name")
RELIABILITY_KEYS = ("items", "level", "name")
DESCRIBE_KEYS = ("by", "columns", "name", "weights")
OUTPUT_KEYS = ("figures", "labels", "standardised", "title")


def read_analysis(mapping: Mapping[str, Any], text: str, source: str) -> Analysis:
    """Read what a plan asks for, checked as far as it can be without the data.

    `mapping` is the plan as TOML has it, `text` its text and `source` what it is called, for messages: a refusal names the line.
    """
    lines = Lines(text, source)
    fits: list[tuple[int, FitEntry]] = []
    for table, keys in (("fit", FIT_KEYS), ("blocks", BLOCK_KEYS), ("imputations", IMPUTATION_KEYS)):
        entries = mapping.get(table, [])
        if not isinstance(entries, list) or not all(isinstance(e, Mapping) for e in entries):
            raise lines.error(f"write [[{table}]] above each of its entries", table)
        for number, entry in enumerate(entries):
            fits.append((lines.header(table, number), fit_entry(entry, table, number, keys, lines)))
    fits.sort(key=lambda pair: pair[0])
    found = [entry for _, entry in fits]
    doubled = [e.name for k, e in enumerate(found) if e.name in [o.name for o in found[:k]]]
    if doubled:
        raise lines.error(f"two fits are called `{doubled[0]}`; give each a name of its own", doubled[0])
    combined = [e for e in found if e.table == "imputations"]
    found = [e for e in found if e.table != "imputations"]
    comparisons = _compare_entries(mapping.get("compare", []), [e.name for e in found], lines)
    screen = _screen_entry(mapping.get("screen"), lines)
    output = mapping.get("output", {})
    if not isinstance(output, Mapping):
        raise lines.error("`output` is a table: [output]", "output")
    check_keys(output, OUTPUT_KEYS, "output", 0, lines)
    return Analysis(
        fits=tuple(found),
        imputations=tuple(combined),
        screen=screen,
        samples=_describe_entries(mapping.get("describe", []), lines),
        scales=_reliability_entries(mapping.get("reliability", []), lines),
        comparisons=comparisons,
        eliminations=_elimination_entries(mapping.get("backward_elimination", []), found, lines),
        title=str(output.get("title", "")),
        figures=bool(output.get("figures", True)),
        labels=bool(output.get("labels", False)),
        standardised=bool(output.get("standardised", False)),
    )


def _describe_entries(given: Any, lines: Lines) -> tuple[DescribeEntry, ...]:
    if not isinstance(given, list) or not all(isinstance(e, Mapping) for e in given):
        raise lines.error("write [[describe]] above each description of the sample", "describe")
    found = []
    for number, entry in enumerate(given):
        check_keys(entry, DESCRIBE_KEYS, "describe", number, lines)
        columns = entry.get("columns", [])
        if not isinstance(columns, list) or not all(isinstance(i, str) for i in columns):
            at = lines.within("describe", number, "columns")
            raise lines.error('`columns` of a [[describe]] is a list of names: columns = ["age", "voice"]', at=at)
        for key in ("by", "name", "weights"):
            if key in entry and not isinstance(entry[key], str):
                raise lines.error(f"`{key}` is a text, not {entry[key]!r}", at=lines.within("describe", number, key))
        by = entry.get("by")
        name = str(entry.get("name") or f"The sample{f' by {by}' if by else ''}")
        found.append(DescribeEntry(name, tuple(columns), by, entry.get("weights")))
    return tuple(found)


def _reliability_entries(given: Any, lines: Lines) -> tuple[ReliabilityEntry, ...]:
    if not isinstance(given, list) or not all(isinstance(e, Mapping) for e in given):
        raise lines.error("write [[reliability]] above each scale", "reliability")
    found = []
    for number, entry in enumerate(given):
        check_keys(entry, RELIABILITY_KEYS, "reliability", number, lines)
        items = entry.get("items")
        if not isinstance(items, list) or len(items) < 2 or not all(isinstance(i, str) for i in items):
            at = lines.within("reliability", number, "items")
            raise lines.error('a [[reliability]] names two items or more: items = ["welcome", "friends"]', at=at)
        check_level(entry, "reliability", number, lines)
        name = str(entry.get("name") or f"scale of {', '.join(items)}")
        found.append(ReliabilityEntry(name, tuple(items), float(entry.get("level", 0.95))))
    return tuple(found)


def _compare_entries(given: Any, names: Sequence[str], lines: Lines) -> tuple[CompareEntry, ...]:
    if not isinstance(given, list) or not all(isinstance(e, Mapping) for e in given):
        raise lines.error("write [[compare]] above each comparison", "compare")
    found = []
    for number, entry in enumerate(given):
        check_keys(entry, COMPARE_KEYS, "compare", number, lines)
        fits = entry.get("fits")
        if not isinstance(fits, list) or len(fits) < 2 or not all(isinstance(f, str) for f in fits):
            raise lines.error(
                'a [[compare]] names two fits or more: fits = ["one", "other"]', at=lines.header("compare", number)
            )
        for fit in fits:
            if fit not in names:
                at = lines.within("compare", number, fit)
                raise lines.error(f"there is no fit `{fit}` in the plan", at=at, hint=near(fit, names))
        found.append(CompareEntry(str(entry.get("name") or " beside ".join(fits)), tuple(fits)))
    return tuple(found)


def _elimination_entries(given: Any, fits: Sequence[FitEntry], lines: Lines) -> tuple[EliminationEntry, ...]:
    if not isinstance(given, list) or not all(isinstance(e, Mapping) for e in given):
        raise lines.error("write [[backward_elimination]] above each of its entries", "backward_elimination")
    by_name = {e.name: e for e in fits}
    found = []
    for number, entry in enumerate(given):
        check_keys(entry, ELIMINATION_KEYS, "backward_elimination", number, lines)
        fit, keep, limit = entry.get("fit"), entry.get("keep", []), entry.get("limit", 0.05)
        if not isinstance(fit, str):
            raise lines.error(
                'a [[backward_elimination]] names its fit: fit = "all together"',
                at=lines.header("backward_elimination", number),
            )
        if fit not in by_name:
            at = lines.within("backward_elimination", number, fit)
            raise lines.error(f"there is no fit `{fit}` in the plan", at=at, hint=near(fit, list(by_name)))
        if not isinstance(keep, list) or not all(isinstance(k, str) for k in keep):
            raise lines.error(
                '`keep` is a list of terms: keep = ["voice"]', at=lines.within("backward_elimination", number, "keep")
            )
        terms = [request_name(s) for s in by_name[fit].every_term]
        for term in keep:
            if term not in terms:
                at = lines.within("backward_elimination", number, term)
                raise lines.error(f"the fit `{fit}` has no term `{term}` to keep", at=at, hint=near(term, terms))
        if not 0 < limit < 1:
            at = lines.within("backward_elimination", number, "limit")
            raise lines.error(f"`limit` is a p between 0 and 1, not {limit!r}", at=at)
        found.append(EliminationEntry(str(entry.get("name") or f"{fit}, eliminated"), fit, float(limit), tuple(keep)))
    return tuple(found)


def _screen_entry(entry: Any, lines: Lines) -> ScreenEntry | None:
    if entry is None:
        return None
    if not isinstance(entry, Mapping):
        raise lines.error("`screen` is a table: [screen]", "screen")
    check_keys(entry, SCREEN_KEYS, "screen", 0, lines)
    terms = entry.get("terms")
    if not isinstance(terms, list) or not terms or not all(isinstance(t, str) for t in terms):
        raise lines.error('a [screen] names its columns: terms = ["age", "voice"]', at=lines.header("screen"))
    for key, kind, what in (
        ("outcome", str, "a text"),
        ("limit_r", (int, float), "a number"),
        ("limit_vif", (int, float), "a number"),
        ("weights", str, "a text"),
    ):
        if key in entry and (not isinstance(entry[key], kind) or isinstance(entry[key], bool)):
            raise lines.error(f"`{key}` is {what}, not {entry[key]!r}", at=lines.within("screen", 0, key))
    check_choices(entry, "screen", 0, lines)
    return ScreenEntry(tuple(terms), **{key: value for key, value in entry.items() if key != "terms"})


def check_columns(analysis: Analysis, columns: Sequence[str], text: str, source: str) -> None:
    """Refuse columns that the prepared data do not have, before anything is fitted, with the line, and names that come close."""
    lines, screened = Lines(text, source), analysis.screen
    needed: list[tuple[str, int, Sequence[str]]] = [
        (e.table, e.number, e.columns) for e in (*analysis.fits, *analysis.imputations)
    ]
    needed += [("describe", k, [*s.columns, *filter(None, (s.by, s.weights))]) for k, s in enumerate(analysis.samples)]
    needed += [("reliability", number, scale.items) for number, scale in enumerate(analysis.scales)]
    if screened:
        needed.append(("screen", 0, [*screened.terms, *filter(None, (screened.outcome, screened.weights))]))
    for table, number, names in needed:
        for name in names:
            if name not in columns:
                at = lines.within(table, number, name)
                raise lines.error(f"there is no column `{name}` in the prepared data", at=at, hint=near(name, columns))
