"""That a fit counts imputations of the same cases as cases, or has one of several plausible values: its errors are too small."""

from __future__ import annotations

from markbase.core.errors import listed, quoted
from markbase.core.formatting import short
from markbase.core.results.any_fit import AnyFit

_MOST_NAMED = 5


def about_imputed(fit: AnyFit) -> list[str]:
    """Say so, and what would do; a sentence for each of the two."""
    told = []
    if fit.stacked is not None:
        column, m, rows = fit.stacked
        told.append(
            f"These rows are {m} imputations of the same cases (`{column}`, {rows:,} rows each), each of which is counted as one of its own: the errors are too small, by about "
            f"{short(m**0.5, 2)} times, and more where much was missing. A fit in each imputation, combined (Rubin's rules), says what they say together"
        )
    if fit.plausible:
        several = fit.plausible
        names = listed(quoted(several)) if len(several) <= _MOST_NAMED else f"`{several[0]}` to `{several[-1]}`"
        told.append(
            f"{names} are plausible values of one measurement: one of them, or their mean, leaves out what the measurement leaves open, and errors are too small. A fit for each, combined "
            "(Rubin's rules), has it"
        )
    return told
