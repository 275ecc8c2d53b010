"""Which coefficients of a term are told one by one, where it has very many, and what must be known of all of them."""

from __future__ import annotations

import pandas as pd

from markbase.core.design.terms import Term
from markbase.core.formatting import short
from markbase.core.results.any_fit import AnyFit
from markbase.core.study.remark import THIN_ROWS
from markbase.core.tables import TableRow, records_of

MOST_TOLD = 24
"""Coefficients of a term that are all told."""
CLEAREST = 12
"""How many are told of more."""


def few_told(fit: AnyFit, term: Term, rows: pd.DataFrame) -> tuple[set[str], list[str]]:
    """Return the levels that are told one by one, and what is said beside the joint test of a term where these are not all.

    None is where the equation has no start. Of more than 24 those of the 12 lowest p values are told. Chance makes some of many small:
    how many on average holds however the comparisons go together; how many stay clear is corrected for all of them (Holm 1979).
    """
    own = [row for row in records_of(rows) if not row["base"] and not pd.isna(row["estimate"])]
    if not own and not fit.coefficient_map.known[0]:
        return set(), []  # why is said of the start of the equation
    if len(own) <= MOST_TOLD or fit.exact:
        return {str(row["level"]) for row in records_of(rows)}, []
    clearest = sorted(own, key=lambda row: (pd.isna(row["p"]), row["p"]))[:CLEAREST]
    return {str(row["level"]) for row in clearest}, [*_by_chance(fit, term, own), *_thin(own)]


def _by_chance(fit: AnyFit, term: Term, own: list[TableRow]) -> list[str]:
    tested = [float(row["p"]) for row in own if not pd.isna(row["p"])]
    clear, still = (sum(p < fit.alpha for p in told) for told in (tested, fit.corrected_p(tested)))
    shared = len(term.groups) == 1 and term.groups[0].column.scheme == "indicator"
    level, crowd = (
        short(fit.alpha, 3).removeprefix("0"),
        " (they share the base, so that by chance many are small at once, or few)" if shared else "",
    )
    told = f"Of its {len(own):,} coefficients {clear or 'none'} {'has' if clear == 1 else 'have'} p below {level}"
    if clear:
        stay = "all of these stay" if still == clear else f"{still or 'none'} {'stay' if still > 1 else 'stays'}"
        told += f"; if nothing differed {short(len(tested) * fit.alpha, 2)} would on average{crowd}. Corrected for all of them (Holm) {stay} clear"
    picked = (
        "picked as the clearest of many, they tend to look larger than they are"
        if clear
        else "the table has the others"
    )
    return [f"{told}. The {CLEAREST} of the lowest p are told here: {picked}."]


def _thin(own: list[TableRow]) -> list[str]:
    counted = {str(row["level"]): int(row["n"]) for row in own if not pd.isna(row["n"])}
    thin = sum(n < THIN_ROWS for n in counted.values())
    if not thin:
        return []
    fewest = min(counted, key=lambda level: counted[level])
    return [
        f"{thin:,} of its coefficients {'is' if thin == 1 else 'are'} about fewer than {THIN_ROWS} rows, `{fewest}` about the fewest ({counted[fewest]})."
    ]
