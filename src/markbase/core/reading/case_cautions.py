"""That one row alone decides what is told of a coefficient."""

from __future__ import annotations

from markbase.core.formatting import decimals_for, number, ratio_with_ends, short
from markbase.core.reading.clauses import interval_words
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.coefficient_rows import label_of
from markbase.core.tables import TableRow, records_of

_MOST_TOLD = 3


def about_case(fit: AnyFit, row: TableRow) -> list[str]:
    """Say of a coefficient that one row decides it, or moves it far, with what it is without that row."""
    key = row["term"], row["level"]
    heavy = max((h for h in fit._heavy_cases if key in h.without), key=lambda h: h.moves, default=None)
    if heavy is None:
        return []
    without = heavy.without[key]
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
        f"One row {does}, {heavy.case} ({name} {short(heavy.distance)}): without it, it is {size} "
        f"({interval_words(fit, without, f'{low} to {high}')}). Look whether that row is right; if it is, tell both."
    ]


def about_case_elsewhere(fit: AnyFit) -> list[str]:
    """Say the same of coefficients of curves and interactions, of which no sentence tells one alone."""
    if not fit._heavy_cases:
        return []
    parts = {t.name for t in fit.model_terms if t.kind in ("polynomial", "interaction")}
    rows = [row for row in records_of(fit.coefficients) if row["term"] in parts]
    told = [(label_of(row["term"], row["level"]), caution) for row in rows for caution in about_case(fit, row)]
    return [f"Of `{label}`: {caution[0].lower()}{caution[1:]}" for label, caution in told[:_MOST_TOLD]]
