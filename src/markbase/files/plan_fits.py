"""Reading a fit, an entry in blocks, or a fit over imputations from a plan, checked as far as it can be without the data."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any

from markbase.core.design.fit_options import KINDS, FitOptions
from markbase.core.design.requested_terms import TermRequest, interaction, polynomial, term_from_text
from markbase.core.errors import MarkbaseError
from markbase.core.results.equivalence import check_margin
from markbase.core.study.named_alike import is_pattern
from markbase.files.plan_checks import check_choices, check_keys, check_level
from markbase.files.plan_entries import FitEntry
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
    sorted(
        (
            *(k for k in _SHARED if k not in ("subgroups",)),
            "at",
            "correction",
            "entry",
            "imputation",
            "outcomes",
            "slopes",
            "terms",
        )
    )
)


def fit_entry(entry: Mapping[str, Any], table: str, number: int, keys: Sequence[str], lines: Lines) -> FitEntry:
    """Read one; a refusal names the line."""
    check_keys(entry, keys, table, number, lines)
    here = lines.header(table, number)
    kind = entry.get("kind", "linear")
    if kind not in KINDS:
        raise lines.error(f"`kind` is linear or logistic, not {kind!r}", at=lines.within(table, number, "kind"))
    imputation, outcomes = _imputed(entry, table, number, lines) if table == "imputations" else ("", ())
    if not outcomes and not (isinstance(entry.get("outcome"), str) and entry["outcome"]):
        raise lines.error(f'a [[{table}]] names its outcome: outcome = "belonging"', at=here)
    for key in FitOptions.names():
        other = FitOptions.other_kind(key, kind)
        if other and entry.get(key):
            raise lines.error(
                f'`{key}` is for a {other} fit; say kind = "{other}" or leave it out',
                at=lines.within(table, number, key),
            )
    check_choices(entry, table, number, lines)
    check_level(entry, table, number, lines)
    terms: tuple[TermRequest, ...] = ()
    blocks: tuple[tuple[str, tuple[TermRequest, ...]], ...] = ()
    in_blocks = table == "blocks" or (table == "imputations" and "entry" in entry)
    if (
        in_blocks
        and table == "imputations"
        and (other := next((k for k in ("terms", "groups", "slopes") if k in entry), ""))
    ):
        raise lines.error(
            f"an [[imputations]] has terms, or blocks (`entry`) without groups and slopes, not `entry` and `{other}`",
            at=lines.within(table, number, other),
        )
    if not in_blocks:
        terms = _specs(entry.get("terms"), table, number, "terms", lines)
    else:
        given = entry.get("entry")
        if (
            not isinstance(given, list)
            or not given
            or not all(isinstance(b, Mapping) and set(b) == {"name", "terms"} for b in given)
        ):
            raise lines.error(
                f'a{"n" * (table == "imputations")} [[{table}]] lists its blocks: entry = [{{name = "background", terms = ["age", "voice"]}}, …]',
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
    if (
        not isinstance(outcomes, list)
        or not all(isinstance(o, str) for o in outcomes)
        or (len(outcomes) == 1 and not is_pattern(outcomes[0]))
    ):
        raise lines.error(
            '`outcomes` is a list of two plausible values or more: outcomes = ["pv1pitch", "pv2pitch"], or ["pv*pitch"]',
            at=lines.within(table, number, "outcomes"),
        )
    if bool(column) == bool(outcomes) or (outcomes and "outcome" in entry):
        raise lines.error(
            'an [[imputations]] has an outcome, and the column that numbers the imputations (imputation = "imputation"); or plausible values in the '
            'place of both (outcomes = ["pv1pitch", "pv2pitch"])',
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
