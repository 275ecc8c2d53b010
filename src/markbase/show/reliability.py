"""The reliability of a scale: rows, how far the items go together, each item, and what it means."""

from __future__ import annotations

import math
from typing import Any

from markbase.core.errors import count_noun
from markbase.core.formatting import as_percent, from_to, number, share, short, without_zero
from markbase.core.screening.reliability import Reliability
from markbase.core.tables import rows_of
from markbase.show.page import Facts, Page, Row, Section, Sentences, Strip, Table
from markbase.show.records import table_record
from markbase.show.study import Mend, as_method


def reliability_page(found: Reliability, mend: Mend | None = as_method) -> Page:
    """Describe how far the items of a scale go together; `mend` writes the step that turns an item round."""
    sample, items = found.sample, len(found.items)
    low, high = found.interval
    figures = [
        (
            "Cronbach's alpha",
            "none: the sum of the items does not vary"
            if math.isnan(found.alpha)
            else f"{without_zero(found.alpha, 2)}, {short(100 * found.level)}% CI {from_to(without_zero(low, 2), without_zero(high, 2))}",
        ),
        *_omega(found),
        ("standardised alpha", f"{without_zero(found.standardised_alpha, 2)}, of the items in standard deviations"),
        ("mean correlation", f"{without_zero(found.mean_r, 2)}, of {count_noun(items * (items - 1) // 2, 'pair')}"),
        ("principal components", ", ".join(as_percent(v) for v in found.components[:3]) + " of the variance of the standardised items"),
    ]  # fmt: skip
    used = f"{sample.used:,} of {count_noun(sample.rows, 'row')} ({share(sample.used, sample.rows)}): those that have every item"
    which = Facts((("complete cases", used), *found.wordings.items()))
    ways = (_turned(found, mend),) if mend and found.mend else ()
    with_rest = "r with the sum of the others" if items > 2 else "r with the other"
    with_rest += "; loading: r with the common factor" if found.factor is not None else ""
    return Page(
        f"Reliability of a scale of {count_noun(items, 'item')}",
        found.data_name,
        (
            Section("1  Which rows, which items", blocks=(which,)),
            Section("2  How far the items go together", blocks=(Facts(tuple(figures)),)),
            Section("3  Each item", with_rest, (items_table(found),)),
            Section("4  What it means here", blocks=(Sentences(tuple((text, ()) for text in found.statements)), *ways)),
        ),
    )


def _omega(found: Reliability) -> list[tuple[str, str]]:
    """Tell omega with its interval; nothing of two items."""
    if len(found.items) < 3:
        return []
    if found.factor is None:
        return [("McDonald's omega", "none: one factor would leave an item without a variance of its own")]
    low, high = (without_zero(v, 2) for v in found.omega_interval)
    interval = f", {short(100 * found.level)}% CI {from_to(low, high)}" if not math.isnan(found.omega_error) else ""
    return [
        (
            "McDonald's omega",
            f"{without_zero(found.omega, 2)}{interval}, of one common factor",
        )
    ]


def _turned(found: Reliability, mend: Mend) -> Facts:
    """Return the step that turns each item round, as a front end writes it."""
    scores = list(found.mend[0]["scores"])
    ways = [(f"{step['column']} turned round", f"→ {mend(step)}") for step in found.mend]
    return Facts((*ways, ("answers", f"taken to run from {scores[0]} to {scores[-1]}, as they do in these rows")))


def items_table(found: Reliability, formal: bool = False) -> Table:
    """Return each item with the rest of the scale, a row each; `formal` has the interval in one cell, and nothing drawn."""
    interval, left = f"{short(100 * found.level)}% CI", min(0.0, float(found.table["rest_low"].min()))
    rows = []
    for r in rows_of(found.table):
        about = (r.item, number(r.mean, 2), number(r.sd, 2), _r(r.rest_r))
        ends = (_r(r.rest_low), _r(r.rest_high))
        cells = (
            *about,
            *((from_to(*ends) if all(ends) else "",) if formal else ends),
            _r(r.alpha_without),
            _r(r.loading),
        )
        rows.append(Row(cells, "plain", None if formal else Strip(r.rest_low, r.rest_r, r.rest_high, left, 1.0)))
    if formal:
        formally = ("", "M", "SD", "r with the rest", interval, "alpha without it", "loading")
        return Table(formally, tuple(rows), frozenset(range(1, 7)))
    heads = ("item", "mean", "sd", "r with the rest", "lower", "upper", "alpha without it", "loading")
    return Table(heads, tuple(rows), frozenset(range(1, 8)), 0, interval)


def _r(value: float) -> str:
    return "" if math.isnan(value) else without_zero(value, 2)


def reliability_record(found: Reliability) -> dict[str, Any]:
    """Return it as plain data."""
    low, high = found.interval
    return {
        "items": list(found.items),
        "rows": found.sample.rows,
        "used": found.sample.used,
        "level": found.level,
        "alpha": found.alpha,
        "low": low,
        "high": high,
        "omega": found.omega,
        "omega_low": found.omega_interval[0],
        "omega_high": found.omega_interval[1],
        "standardised_alpha": found.standardised_alpha,
        "mean_r": found.mean_r,
        "components": list(found.components),
        "table": table_record(found.table),
        "statements": list(found.statements),
    }
