"""What terms, or blocks, add in every order of entry: a page and its record."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from markbase.core.comparison.dominance import Dominance
from markbase.core.formatting import as_percent, from_to, short, without_zero
from markbase.core.tables import records_of, rows_of
from markbase.show.fit import what_is_used
from markbase.show.page import Facts, Page, Row, Section, Sentences, Strip, Table
from markbase.show.records import table_record

_PATTERNS = {
    "complete": "as much or more to every set of the others",
    "conditional": "on average to the sets of every size",
    "general": "on average over all orders alone",
    "none": "both add the same on average",
}
_MOST_PAIRS = 28
"""So many pairs are shown, those of the terms that add most."""


def dominance_page(found: Dominance) -> Page:
    """Describe what each term, or block, adds over all orders of entry, and which adds more than which."""
    fit, what = found.fit, found.what
    whole = f"{without_zero(found.total)} of the whole model, which the averages sum to"
    added = added_table(found)
    pairs = [
        (
            r.first,
            r.second,
            r.pattern,
            f"{r.sets:,} of {r.of:,}",
            *([f"{100 * r.samples:.1f}%"] if found.sampled else []),
        )
        for r in rows_of(found.pairs)
    ]
    shown = Table(
        ("adds more", "than", "dominance", "more to", *(["in samples"] if found.sampled else [])),
        tuple(Row(p) for p in pairs[:_MOST_PAIRS]),
        frozenset({3, 4} if found.sampled else {3}),
        0,
    )
    about = [(name, ", ".join(own)) for name, own in found.members.items() if what == "block"]
    if found.sampled:
        told = f"of the average, from {found.sampled}; none can end below 0, so an end above 0 is no test"
        about.append(("interval", told))
    words = {r.pattern for r in rows_of(found.pairs)}
    meant = Facts(tuple((p, told) for p, told in _PATTERNS.items() if p in words))
    left = f"; {len(pairs) - _MOST_PAIRS} more pairs in the data" if len(pairs) > _MOST_PAIRS else ""
    sizes = [column for column in found.by_size.columns if column != what]
    by_size = Table(
        (what, *(f"to {size}" for size in sizes)),
        tuple(Row((r[what], *(without_zero(r[size]) for size in sizes))) for r in records_of(found.by_size)),
        frozenset(range(1, len(sizes) + 1)),
        0,
    )
    return Page(
        f"{fit.explained}: what each {what} adds in every order of entry",
        what_is_used(fit),
        (
            Section(f"What each {what} adds to {found.measure}", whole, (added, *([Facts(tuple(about))] if about else []))),
            *([Section("On average to so many of the others", "before all orders are averaged", (by_size,))] if len(sizes) > 2 else []),
            Section("Which adds more than which", f"to the sets of the others that can stand in the model{left}", (shown, meant)),
            Section("What it means here", blocks=(Sentences(tuple((text, ()) for text in found.statements)),)),
        ),
    )  # fmt: skip


def added_table(found: Dominance, formal: bool = False) -> Table:
    """Return what each term, or block, adds, a row each; `formal` leaves out what is drawn beside the numbers."""
    widest = float(found.table[["alone", "average", "last", "high"]].max().max())
    interval = (f"{short(100 * found.fit.level)}% CI",) if found.sampled else ()
    rows = tuple(
        Row(
            (
                r[found.what],
                *(without_zero(r[k]) for k in ("alone", "average")),
                *_interval(found, r),
                without_zero(r["last"]),
                as_percent(r["share"]),
            ),
            "plain",
            None if formal else _strip(r, found.sampled, widest),
        )
        for r in records_of(found.table)
    )
    heads = (found.what, "entered first", "average", *interval, "entered last", "share")
    right = frozenset(range(1, len(heads)))
    return Table(heads, rows, right) if formal else Table(heads, rows, right, 0, *(interval or ("first to last",)))


def _strip(row: Mapping[str, Any], sampled: str, widest: float) -> Strip:
    """Draw the interval of an average; without one, from what is added last to what is added first."""
    if sampled:
        return Strip(row["low"], row["average"], row["high"], 0.0, widest)
    low, average, high = row["last"], row["average"], row["alone"]
    return Strip(min(low, average, high), average, max(low, average, high), 0.0, widest)


def _interval(found: Dominance, row: Mapping[str, Any]) -> list[str]:
    return [from_to(without_zero(row["low"]), without_zero(row["high"]))] if found.sampled else []


def dominance_record(found: Dominance) -> dict[str, Any]:
    """Return it as plain data."""
    return {
        "what": found.what,
        "members": {name: list(own) for name, own in found.members.items()},
        "measure": found.measure,
        "total": found.total,
        "table": table_record(found.table),
        "by_size": table_record(found.by_size),
        "pairs": table_record(found.pairs),
        "samples": found.sampled,
        "statements": list(found.statements),
    }
