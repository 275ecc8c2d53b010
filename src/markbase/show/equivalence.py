"""Comparisons held against the smallest difference that would matter."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pandas as pd

from markbase.core.errors import listed
from markbase.core.formatting import decimals_for, from_to, p_value, ratio_with_ends, short, value_with_ends
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.equivalence import margin_words
from markbase.core.results.linear import LinearFit
from markbase.core.results.stored_fit import StoredFit
from markbase.core.tables import rows_of
from markbase.show.few_of_many import few_of
from markbase.show.page import Row, Section, Sentences, Table

MOST_PAIRS = 120
"""Pairs that a page lists; of more those with the smallest p."""
_CORRECTED = {
    "none": "p each by itself",
    "bonferroni": "p corrected after Bonferroni",
    "benjamini-hochberg": "p corrected after Benjamini and Hochberg",
}


def equivalence_section(
    fit: AnyFit | StoredFit, table: pd.DataFrame, margin: float, correction: str, what: str
) -> Section:
    """Say of comparisons, as `between` and `planned` return them with a margin, whether each is smaller or larger than it."""
    odds = fit.family.ratios
    decimals = decimals_for(float(table["se"].min()))
    clearest, told = few_of(table, "p", "clearest", "pairs", most=MOST_PAIRS, ascending=True)
    rows = tuple(
        Row((f"{r.level} against {r.against}", *_figures(fit, r, decimals), _verdict(fit, r, correction)))
        for r in rows_of(clearest)
    )
    size = "odds ratio" if odds else f"difference ({fit.outcome.step_many})"
    heads = ("pair", size, f"{short(100 * max(1 - 2 * fit.alpha, 0.0), 4)}% CI", "p smaller", "p larger", "says")
    either = (
        f"between {short(1 / margin, 3)} and {short(margin, 4)}"
        if odds
        else f"less than {short(margin, 4)} in either direction"
    )
    words = (
        f"Smaller: {either}, which these rows show. Open: they cannot tell; that is no evidence for either. A margin counts if it was chosen "
        f"before the data were seen, as the smallest difference that would matter."
    )
    inside = np.maximum(table["inner_high"], -table["inner_low"]) < (math.log(margin) if odds else margin)
    if (inside & (table["verdict"] == "open")).any():
        words += " An open pair whose interval lies inside the margin is open once p is corrected for how many pairs there are; intervals are not."
    walds = "Wald's, " if not isinstance(fit, LinearFit) and fit.penalty else ""
    note = f"two one-sided tests (equivalence), {walds}{_CORRECTED.get(correction, 'p corrected after Holm')}{told}"
    if told:
        counted = table["verdict"].value_counts()
        note += f"; of all {len(table):,} {listed([f'{count:,} {verdict}' for verdict, count in counted.items()])}"
    blocks = (Table(heads, rows, frozenset({1, 2, 3, 4})), Sentences(((words, ()),)))
    return Section(f"Smaller or larger than {margin_words(fit, margin)}? {what}", note, blocks)


def _figures(fit: AnyFit | StoredFit, r: Any, decimals: int) -> tuple[str, ...]:
    if fit.family.ratios:
        size, *ends = ratio_with_ends(r.odds_ratio, math.exp(r.inner_low), math.exp(r.inner_high), r.se)
    else:
        size, *ends = value_with_ends(r.difference, r.inner_low, r.inner_high, decimals)
    return size, from_to(*ends), p_value(r.p_smaller), p_value(r.p_larger)


def _verdict(fit: AnyFit | StoredFit, r: Any, correction: str) -> str:
    if math.isnan(r.p_smaller):
        return "–"
    if r.verdict == "smaller" and (r.p if correction == "none" else r.p_corrected) < fit.alpha:
        return f"smaller, yet not {1 if fit.family.ratios else 0}"
    return str(r.verdict)
