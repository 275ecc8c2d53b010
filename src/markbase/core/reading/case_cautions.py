"""That one row alone decides what is told of a coefficient."""

from __future__ import annotations

from markbase.core.formatting import decimals_for, number, p_phrase, ratio_with_ends, short
from markbase.core.reading.clauses import percent
from markbase.core.results.any_fit import AnyFit
from markbase.core.tables import TableRow


def about_case(fit: AnyFit, row: TableRow) -> list[str]:
    """Say of a coefficient that one row decides it, or moves it far, with what it is without that row."""
    heavy = fit._heavy_case
    without = heavy and heavy.without.get((row["term"], row["level"]))
    if not without:
        return []
    if fit.family.ratios:
        size, low, high = ratio_with_ends(
            *(float(without[key]) for key in ("odds_ratio", "odds_low", "odds_high", "se"))
        )
    else:
        decimals = decimals_for(float(without["se"]))
        size, low, high = (number(without[key], decimals) for key in ("estimate", "low", "high"))
    name = "Pregibon's distance" if fit.family.ratios else "Cook's distance"
    does = "decides what is told of it" if heavy.decides else f"moves it by {number(heavy.moves, 1)} standard errors"
    return [
        f"One row {does}, {heavy.case} ({name} {short(heavy.distance)}): without it, it is {size} ({percent(fit)} CI {low} to {high}, "
        f"{p_phrase(float(without['p']))}). Look whether that row is right; if it is, tell both."
    ]
