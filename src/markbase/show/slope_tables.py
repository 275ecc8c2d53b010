"""Simple slopes of a curve or an interaction, and where they are clear."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence

import pandas as pd

from markbase.core.errors import count_noun, listed
from markbase.core.formatting import (
    decimals_for,
    from_to,
    number,
    p_phrase,
    p_value,
    plain,
    short,
    value_with_ends,
)
from markbase.core.reading.clauses import joint_figures
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.simple_slopes import SLOPE_FIGURES
from markbase.core.results.stored_fit import StoredFit
from markbase.core.study.remark import THIN_ROWS
from markbase.core.tables import own_name, records_of, rows_of
from markbase.show.page import Facts, Row, Section, Strip, Table
from markbase.show.statistics import scale_of


def slopes_section(
    fit: AnyFit | StoredFit, numeric: str, by: str | None, at: Mapping[str, Sequence[float]] | None
) -> Section:
    """Describe simple slopes of a numeric column, at chosen values or within the levels of a group.

    Where the moderator is numeric, also the stretches in which the slope is clear.
    """
    table = fit.simple_slopes(numeric, by=by, at=at)
    held, keys, rows = slope_rows(table, by)
    unit = fit.family.scale(fit.outcome)
    chosen = [(name, key) for name, key in zip(held, keys, strict=True) if name not in (at or {})]
    places = "".join(f"{_chosen(fit, name, set(table[key]))}; " for name, key in chosen)
    step = fit.variable(numeric, "numeric").column.step_one
    note = f"in {unit} per {step}; {places}what is not named is averaged over the rows"
    heads = ("where", "slope", "se", f"{short(100 * fit.level, 4)}% CI", "p")
    blocks: list[Table | Facts] = [Table(heads, tuple(rows), frozenset({1, 2, 3, 4}), 0, "lower ┊ higher")]
    facts = _whether_they_differ(fit, numeric, by, table)
    if "probability_slope" in table:  # a saved fit has no rows to average over
        facts += [
            (
                "in probability",
                "; ".join(
                    f"{row.cells[0]}: {size} points ({low} to {high})"
                    for row, (size, low, high) in zip(rows, _in_points(table, ("slope", "low", "high")), strict=True)
                ),
            )
        ]
    if "probability_difference" in table:
        points = _in_points(table, ("difference", "difference_low", "difference_high"))
        told = [
            f"{row.cells[0]}: {size} ({low} to {high}, {p_phrase(r['probability_difference_p'])})"
            for row, (size, low, high), r in zip(rows, points, records_of(table), strict=True)
            if not r["base"]
        ]
        facts.append((f"points more than at {table.loc[table['base'], 'level'].iloc[0]}", "; ".join(told)))
        one_slope = set(fit.slope_depends_on(numeric)) <= {by, *held}  # at each place, not an average of several
        facts += _too_narrow([row.cells[0] for row in rows], table, one_slope)
    if minded := fit._not_profiled(len(table)):
        facts.append(("mind", minded))
    if fit.family.shares:
        facts += [
            ("mind", f"{_of_what(by, len(rows))} in log odds is not one in probability; read both"),
        ]
    other = [f"`{n}`" for n in fit.slope_depends_on(numeric) if n not in (numeric, by, *held)]
    if other:
        words = f"in this model the slope differs by {listed(other)}{' as well' if by or held else ''}: here it is averaged over the rows"
        facts.append(
            ("mind", f"{words}; told by {'it' if len(other) == 1 else 'one of them'}, it shows where it is steep")
        )
    if by in held:
        for stretch in rows_of(fit.clear_region(numeric, by)):
            words = "the slope is clear" if stretch.clear else "no clear slope"
            facts.append(
                (
                    f"{by} {plain(stretch[0], 4)} to {plain(stretch.to, 4)}",
                    words if stretch.rows is None else f"{words} ({count_noun(int(stretch.rows), 'row')})",
                )
            )
    title = f"Simple slopes of {numeric}" + (f" by {by}" if by else "")
    return Section(title, note, (*blocks, *([Facts(tuple(facts))] if facts else [])))


def slope_rows(table: pd.DataFrame, by: str | None) -> tuple[list[str], list[str], list[Row]]:
    """Return which columns are held, by what the table calls them, and a row for each place: where, slope, error, interval and p."""
    keys = [c for c in table.columns[: list(table.columns).index("slope")] if c not in ("level", "base", "n")]
    held = [own_name(SLOPE_FIGURES, key) for key in keys]
    scale, rows = scale_of(float(table["low"].min()), float(table["high"].max())), []
    for r in records_of(table):
        decimals = decimals_for(float(r["se"]))
        size, *ends = value_with_ends(r["slope"], r["low"], r["high"], decimals)
        place = [f"{by} {r['level']}"] if "level" in r else []
        place += [f"{name} = {plain(r[key], 4)}" for name, key in zip(held, keys, strict=True)]
        cells = (", ".join(place) or "everywhere", size, number(r["se"], decimals), from_to(*ends), p_value(r["p"]))
        rows.append(Row(cells, "plain", Strip(r["low"], r["slope"], r["high"], *scale)))
    return held, keys, rows


def _whether_they_differ(
    fit: AnyFit | StoredFit, numeric: str, by: str | None, table: pd.DataFrame
) -> list[tuple[str, str]]:
    """Say what the test of the interaction, or of the bend, tells of slopes that stand side by side; nothing where none is of them alone."""
    names = {numeric, by} - {None}
    told = [t for t in fit.model_terms if names <= set(t.names) and (by or t.kind == "polynomial")]
    if [set(t.names) for t in told] != [names]:
        return []
    if by:
        test = records_of(fit.terms[fit.terms["term"] == told[0].name])[0]
        figures, label, (yes, no) = joint_figures(fit, test), f"do they differ by {by}", ("they do", "that they do")
    else:
        test = vars(fit.bend_test(numeric))
        figures, label, (yes, no) = joint_figures(fit, test, test["kind"]), "does it bend", ("it does", "that it does")
    if math.isnan(test["p"]):
        return []
    sure = (fit._judged(told[0].name, test["p"]) if by else test["p"]) < fit.alpha
    return differing_facts(
        label, f"{figures}: {yes}" if sure else f"{figures}: no clear evidence {no}", sure, table["p"] < fit.alpha
    )


def differing_facts(label: str, words: str, sure: bool, clear: pd.Series[bool]) -> list[tuple[str, str]]:
    """Say whether slopes differ, and where they do not for `sure` though some are clear and others not, what that is not."""
    told = [(label, words)]
    if not sure and clear.nunique() > 1:
        told.append(("mind", "clear in one place and not in another is no evidence that the slope differs"))
    return told


def _too_narrow(places: Sequence[str], table: pd.DataFrame, one_slope: bool) -> list[tuple[str, str]]:
    """Say where rows are too few for intervals in probability, and where these contradict those in log odds."""
    told = list(zip(places, records_of(table), strict=True))
    thin = [f"{place} ({count_noun(int(r['n']), 'row')})" for place, r in told if r["n"] < THIN_ROWS]
    apart = [
        place
        for place, r in told
        if r["low"] <= 0 <= r["high"] and not r["probability_low"] <= 0 <= r["probability_high"]
    ]
    narrow = "of so few rows intervals in probability (delta method) tend to be too narrow"
    facts = [("mind", f"{listed(thin)}: {narrow}")] if thin else []
    if apart and one_slope:
        words = f"{listed(apart)}: clear in probability and not in log odds, though one is 0 only where the other is"
        rough = "the interval in probability (delta method) is the rougher, and too narrow where rows are few"
        facts.append(("mind", f"{words}: go by the log odds; {rough}"))
    return facts


def _chosen(fit: AnyFit | StoredFit, name: str, values: set[float]) -> str:
    """Say at which values a column is held where nobody chose them."""
    middle = fit.rows_used.middle(name)
    if middle not in values:
        return f"{name} at both its values"
    sides = {1: "", 3: " and a standard deviation below and above"}
    side = f" and a standard deviation {'above' if max(values) > middle else 'below'}, inside the rows"
    return f"{name} at its mean{sides.get(len(values), side)}"


def _in_points(table: pd.DataFrame, keys: Sequence[str]) -> Iterator[tuple[str, str, str]]:
    """Write the slopes of a logistic fit in percentage points of probability, with the ends of their intervals."""
    for r in records_of(table):
        size, low, high = (100 * r[f"probability_{key}"] for key in keys)
        yield value_with_ends(size, low, high, max(2, decimals_for((high - low) / 4, 1)))


def _of_what(by: str | None, rows: int) -> str:
    return "an interaction" if by else "a bend" if rows > 1 else "a slope"
