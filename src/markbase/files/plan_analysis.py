"""Reading what a plan asks for beyond the data, checked before anything runs."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import fields
from typing import Any

from markbase.core.design.options import KINDS, FitOptions
from markbase.core.design.requested_terms import TermRequest, interaction, polynomial, request_name, term_from_text
from markbase.core.errors import MarkbaseError, listed, near, quoted
from markbase.core.inference.corrections import CORRECTIONS
from markbase.core.results.equivalence import check_margin
from markbase.files.plan_entries import (
    Analysis,
    CompareEntry,
    DescribeEntry,
    EliminationEntry,
    FitEntry,
    ReliabilityEntry,
    ScreenEntry,
)
from markbase.files.plan_lines import Lines

_SHARED = (*FitOptions.names(), "groups", "kind", "name", "outcome", "question", "subgroups")
FIT_KEYS = tuple(
    sorted(
        (
            *_SHARED,
            "at",
            "bootstrap",
            "correction",
            "cross_validate",
            "dominance",
            "hold_out",
            "margin",
            "seed",
            "slopes",
            "terms",
        )
    )
)
BLOCK_KEYS = tuple(
    sorted((*(k for k in _SHARED if k not in ("groups", "penalty")), "entry", "bootstrap", "dominance", "seed"))
)
IMPUTATION_KEYS = tuple(
    sorted((*(k for k in _SHARED if k not in ("subgroups",)), "correction", "imputation", "outcomes", "terms"))
)
SCREEN_KEYS = ("limit_r", "limit_vif", "outcome", "terms", "weights", "weights_are")
COMPARE_KEYS = ("fits", "name")
ELIMINATION_KEYS = ("fit", "keep", "limit", "name")
RELIABILITY_KEYS = ("items", "level", "name")
DESCRIBE_KEYS = ("by", "columns", "name", "weights")
OUTPUT_KEYS = ("figures", "labels", "standardised", "title")
_TYPES: dict[str, tuple[type, ...]] = {
    "level": (int, float),
    "cross_validate": (bool,),
    "dominance": (bool,),
    "figures": (bool,),
    "labels": (bool,),
    "standardised": (bool,),
    "hold_out": (int, float),
    "margin": (int, float),
    "replicates_scale": (int, float),
    "limit_r": (int, float),
    "limit_vif": (int, float),
    "limit": (int, float),
    "bootstrap": (int,),
    "seed": (int,),
}


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
            fits.append((lines.header(table, number), _fit_entry(entry, table, number, keys, lines)))
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
    _check_keys(output, OUTPUT_KEYS, "output", 0, lines)
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


def _check_keys(entry: Mapping[str, Any], keys: Sequence[str], table: str, number: int, lines: Lines) -> None:
    for key, value in entry.items():
        at = lines.within(table, number, key)
        if key not in keys:
            raise lines.error(f"unknown key `{key}` in [{table}]", at=at, hint=near(key, keys))
        wanted = _TYPES.get(key)
        if wanted and (not isinstance(value, wanted) or (bool not in wanted and isinstance(value, bool))):
            word = "true or false" if bool in wanted else "a number"
            raise lines.error(f"`{key}` is {word}, not {value!r}", at=at)


def _check_choices(entry: Mapping[str, Any], table: str, number: int, lines: Lines) -> None:
    choices = {f.name: f.metadata["choices"] for f in fields(FitOptions) if f.metadata["choices"]}
    for key, known in {**choices, "correction": CORRECTIONS}.items():
        if key in entry and entry[key] not in known:
            told = f"`{key}` is {listed(quoted(known), 'or')}, not {entry[key]!r}"
            raise lines.error(told, at=lines.within(table, number, key))


def _fit_entry(entry: Mapping[str, Any], table: str, number: int, keys: Sequence[str], lines: Lines) -> FitEntry:
    _check_keys(entry, keys, table, number, lines)
    here = lines.header(table, number)
    kind = entry.get("kind", "linear")
    if kind not in KINDS:
        raise lines.error(f"`kind` is linear or logistic, not {kind!r}", at=lines.within(table, number, "kind"))
    imputation, outcomes = _imputed(entry, table, number, lines) if table == "imputations" else ("", ())
    if not outcomes and not isinstance(entry.get("outcome"), str):
        raise lines.error(f'a [[{table}]] names its outcome: outcome = "belonging"', at=here)
    for key in FitOptions.names():
        other = FitOptions.other_kind(key, kind)
        if other and entry.get(key):
            raise lines.error(
                f'`{key}` is for a {other} fit; say kind = "{other}" or leave it out',
                at=lines.within(table, number, key),
            )
    _check_choices(entry, table, number, lines)
    _check_level(entry, table, number, lines)
    terms: tuple[TermRequest, ...] = ()
    blocks: tuple[tuple[str, tuple[TermRequest, ...]], ...] = ()
    if table != "blocks":
        terms = _specs(entry.get("terms"), table, number, "terms", lines)
    else:
        given = entry.get("entry")
        if (
            not isinstance(given, list)
            or not given
            or not all(isinstance(b, Mapping) and set(b) == {"name", "terms"} for b in given)
        ):
            raise lines.error(
                'a [[blocks]] lists its blocks: entry = [{name = "background", terms = ["age", "voice"]}, …]',
                at=lines.within(table, number, "entry"),
            )
        blocks = tuple((str(b["name"]), _specs(b["terms"], table, number, str(b["name"]), lines)) for b in given)
    groups = entry.get("groups", [])
    if not isinstance(groups, list) or not all(isinstance(g, str) for g in groups):
        raise lines.error('`groups` is a list of groups: groups = ["voice"]', at=lines.within(table, number, "groups"))
    subgroups = entry.get("subgroups", [])
    if not isinstance(subgroups, list) or not all(isinstance(g, str) for g in subgroups):
        raise lines.error(
            '`subgroups` is a list of groups: subgroups = ["voice"]', at=lines.within(table, number, "subgroups")
        )
    _check_margin(entry, kind, lines, lines.within(table, number, "margin"))
    share = entry.get("hold_out", 0.0)
    if "hold_out" in entry and not 0 < share < 1:
        raise lines.error(
            f"`hold_out` is a share of the rows between 0 and 1, not {share!r}",
            at=lines.within(table, number, "hold_out"),
        )
    settings = {
        k: tuple(entry[k]) if isinstance(entry[k], list) else entry[k] for k in FitOptions.names() if k in entry
    }
    return FitEntry(
        name=str(entry.get("name") or _name_of(entry.get("outcome") or outcomes[0], table, kind)),
        kind=kind,
        outcome=entry.get("outcome") or outcomes[0],
        terms=terms,
        entry=blocks,
        settings=settings,
        groups=tuple(groups),
        subgroups=tuple(subgroups),
        imputation=imputation,
        outcomes=outcomes,
        slopes=_slopes(entry.get("slopes", []), lines, lines.within(table, number, "slopes")),
        at=_places(entry.get("at", {}), lines, lines.within(table, number, "at")),
        correction=str(entry.get("correction", "holm")),
        margin=entry.get("margin"),
        cross_validate=bool(entry.get("cross_validate", False)),
        dominance=bool(entry.get("dominance", False)),
        hold_out=float(share),
        bootstrap=int(entry.get("bootstrap", 0)),
        seed=int(entry.get("seed", 0)),
        question=str(entry.get("question", "")),
        table=table,
        number=number,
    )


def _name_of(outcome: str, table: str, kind: str) -> str:
    """Return what an entry is called that has no name."""
    return f"{outcome} {'in blocks' if table == 'blocks' else kind}{', imputed' * (table == 'imputations')}"


def _imputed(entry: Mapping[str, Any], table: str, number: int, lines: Lines) -> tuple[str, tuple[str, ...]]:
    """Read what numbers the imputations of an entry, or its plausible values; one of the two is there."""
    column, outcomes = entry.get("imputation", ""), entry.get("outcomes", [])
    if not isinstance(column, str):
        raise lines.error(
            f'`imputation` names a column: imputation = "imputation", not {column!r}',
            at=lines.within(table, number, "imputation"),
        )
    if not isinstance(outcomes, list) or not all(isinstance(o, str) for o in outcomes) or len(outcomes) == 1:
        raise lines.error(
            '`outcomes` is a list of two plausible values or more: outcomes = ["pv1read", "pv2read"]',
            at=lines.within(table, number, "outcomes"),
        )
    if bool(column) == bool(outcomes) or (outcomes and "outcome" in entry):
        raise lines.error(
            'an [[imputations]] has an outcome, and the column that numbers the imputations (imputation = "imputation"); or plausible values in the '
            'place of both (outcomes = ["pv1read", "pv2read"])',
            at=lines.header(table, number),
        )
    return column, tuple(outcomes)


def _check_margin(entry: Mapping[str, Any], kind: str, lines: Lines, at: int) -> None:
    if "margin" not in entry:
        return
    if not entry.get("groups"):
        raise lines.error('`margin` is for pairs of levels; name the groups to be told: groups = ["voice"]', at=at)
    try:
        check_margin(entry["margin"], kind == "logistic")
    except MarkbaseError as refused:
        raise lines.error(f"`margin`: {str(refused)[0].lower()}{str(refused)[1:].rstrip('.')}", at=at) from None


def _check_level(entry: Mapping[str, Any], table: str, number: int, lines: Lines) -> None:
    if "level" in entry and not 0 < entry["level"] < 1:
        told = f"`level` is a confidence level between 0 and 1, not {entry['level']!r}"
        raise lines.error(told, at=lines.within(table, number, "level"))


def _slopes(given: Any, lines: Lines, at: int) -> tuple[tuple[str, str], ...]:
    """Read which simple slopes are told: a numeric column each, by a moderator behind a colon where there is one."""
    if not isinstance(given, list) or not all(isinstance(text, str) and text.strip() for text in given):
        raise lines.error('`slopes` is a list of numeric columns, each by its moderator: slopes = ["age:voice"]', at=at)
    return tuple((a.strip(), b.strip()) for a, _, b in (text.partition(":") for text in given))


def _places(given: Any, lines: Lines, at: int) -> dict[str, tuple[float, ...]]:
    """Read where numeric columns are held: a list of numbers each."""
    found: dict[str, tuple[float, ...]] = {}
    for name, values in given.items() if isinstance(given, Mapping) else [("", None)]:
        numbers: list[Any] = values if isinstance(values, list) else [values]
        if not numbers or not all(
            isinstance(v, (int, float)) and not isinstance(v, bool) and math.isfinite(v) for v in numbers
        ):
            raise lines.error("`at` says where numeric columns are held: at = {age = [30, 50, 70]}", at=at)
        found[name] = tuple(float(v) for v in numbers)
    return found


def _specs(given: Any, table: str, number: int, word: str, lines: Lines) -> tuple[TermRequest, ...]:
    at = lines.within(table, number, word)
    if not isinstance(given, list) or not given:
        raise lines.error('terms are a list: terms = ["age", "voice", {interaction = ["age", "voice"]}]', at=at)
    try:
        return tuple(_term(term) for term in given)
    except MarkbaseError as problem:
        raise lines.error(f"{str(problem)[0].lower() + str(problem)[1:].rstrip('.')}", at=at) from None


def _term(given: Any) -> TermRequest:
    """Read one term: a text, ``{polynomial = "age", degree = 2}`` or ``{interaction = ["age", "voice"]}``."""
    if isinstance(given, str):
        return term_from_text(given)
    if isinstance(given, Mapping) and set(given) <= {"polynomial", "degree"} and "polynomial" in given:
        return polynomial(given["polynomial"], given.get("degree", 2))
    if isinstance(given, Mapping) and set(given) == {"interaction"} and isinstance(given["interaction"], list):
        return interaction(*(_term(factor) for factor in given["interaction"]))  # type: ignore[arg-type]
    raise MarkbaseError(
        f'{given!r} is no term; there are "age", {{polynomial = "age", degree = 2}} and {{interaction = ["age", "voice"]}}'
    )


def _describe_entries(given: Any, lines: Lines) -> tuple[DescribeEntry, ...]:
    if not isinstance(given, list) or not all(isinstance(e, Mapping) for e in given):
        raise lines.error("write [[describe]] above each description of the sample", "describe")
    found = []
    for number, entry in enumerate(given):
        _check_keys(entry, DESCRIBE_KEYS, "describe", number, lines)
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
        _check_keys(entry, RELIABILITY_KEYS, "reliability", number, lines)
        items = entry.get("items")
        if not isinstance(items, list) or len(items) < 2 or not all(isinstance(i, str) for i in items):
            at = lines.within("reliability", number, "items")
            raise lines.error('a [[reliability]] names two items or more: items = ["welcome", "friends"]', at=at)
        _check_level(entry, "reliability", number, lines)
        name = str(entry.get("name") or f"scale of {', '.join(items)}")
        found.append(ReliabilityEntry(name, tuple(items), float(entry.get("level", 0.95))))
    return tuple(found)


def _compare_entries(given: Any, names: Sequence[str], lines: Lines) -> tuple[CompareEntry, ...]:
    if not isinstance(given, list) or not all(isinstance(e, Mapping) for e in given):
        raise lines.error("write [[compare]] above each comparison", "compare")
    found = []
    for number, entry in enumerate(given):
        _check_keys(entry, COMPARE_KEYS, "compare", number, lines)
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
        _check_keys(entry, ELIMINATION_KEYS, "backward_elimination", number, lines)
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
    _check_keys(entry, SCREEN_KEYS, "screen", 0, lines)
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
    _check_choices(entry, "screen", 0, lines)
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
