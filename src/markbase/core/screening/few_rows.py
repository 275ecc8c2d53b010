"""What a screening of few rows shows by chance."""

from __future__ import annotations

import math

import numpy as np
import scipy.special as sp

from markbase.core.errors import count_noun
from markbase.core.formatting import p_phrase, short
from markbase.core.inference.distributions import p_of_t
from markbase.core.screening.screen_tables import ScreenTables

_BY_CHANCE = 1.5
"""From such a variance inflation of columns with nothing in common it is told that chance makes some."""
_CLEAR, _MOST_UNCLEAR = 0.05, 100


def inflation_by_chance(rows: int, columns: int) -> float:
    """Return the variance inflation that independent normal columns show on average; infinite where it has no mean.

    `rows` are those left when the mean is taken out (n − 1; with fixed effects n less the levels). With p columns, 1 − R² of one
    on the others is Beta((rows − p + 1)/2, (p − 1)/2), and the mean of its reciprocal (rows − 2)/(rows − p − 1) (Johnson, Kotz &
    Balakrishnan 1995, Continuous Univariate Distributions 2, ch. 25).
    """
    return (rows - 2) / (rows - columns - 1) if rows > columns + 1 else math.inf


def most_by_chance(rows: int, columns: int) -> float:
    """Return the variance inflation that none of so many independent normal columns exceeds in 95% of samples; 1 of a single one."""
    if columns < 2:
        return 1.0
    left = float(sp.betaincinv((rows - columns + 1) / 2, (columns - 1) / 2, 0.05 / columns))
    return 1 / left if left > 0 else math.inf


def free_cases(screen: ScreenTables) -> int:
    """Return the rows that are free to differ, each as often as a frequency weight says."""
    basis, weighting = screen.basis, screen.weighting
    counted = weighting is not None and weighting.kind == "frequency"
    return round(basis.moments.weight) - basis.moments.rows + basis.free_rows if counted else basis.free_rows


def about_few_rows(screen: ScreenTables) -> list[str]:
    """Say what variance inflation, and what correlations, so few rows show by chance alone."""
    told, rows, columns = [], free_cases(screen), screen.basis.width
    most, limit = most_by_chance(rows, columns), screen.limits.vif
    within = int(np.sum((screen.vif["vif"] >= limit) & (screen.vif["vif"] < most)))
    chance = inflation_by_chance(rows, columns)
    if columns > 1 and chance >= _BY_CHANCE:
        rows_told = count_noun(rows - screen.basis.free_rows + screen.basis.moments.rows, "row")
        beside = (
            f", and {count_noun(within, 'column')} at {short(limit)} or more show no more than chance makes of some"
            if within
            else ""
        )
        told.append(
            f"{rows_told} are few for {columns:,} columns: columns with nothing in common would show a variance inflation of {short(chance)} on average{beside}. "
            f"The standard errors are that much larger all the same; more rows would take this share away."
            if math.isfinite(chance)
            else f"{rows_told} are hardly enough to tell {columns:,} columns apart: such that have nothing in common can show a variance inflation of any size."
        )
    return told + about_pairs_of_few_rows(screen)


def about_pairs_of_few_rows(screen: ScreenTables) -> list[str]:
    """Say that a correlation at the limit is nothing clear in the fewest rows that a pair is told of."""
    r, least = screen.limits.r, int(screen.pairs["rows"].min()) if len(screen.pairs) else _MOST_UNCLEAR
    if least <= 2:
        return [f"Of {count_noun(least, 'row')} every correlation is 1 or −1, whatever the columns measure."]
    p = float(p_of_t(r * math.sqrt((least - 2) / (1 - r * r)), least - 2))
    if p < _CLEAR or least >= _MOST_UNCLEAR:
        return []
    return [
        f"Of {least} rows, r = {short(r)} is no clear sign that two columns go together ({p_phrase(p)}): chance alone makes such pairs."
    ]
