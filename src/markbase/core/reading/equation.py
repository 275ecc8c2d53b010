"""The fitted equation, with every term in it."""

from __future__ import annotations

from markbase.core.reading.told import Equation, EquationPart, FitTold
from markbase.core.tables import rows_of
from markbase.core.wording import decimals_for, number

_DIGITS = 4


def make_equation(fit: FitTold) -> Equation:
    """Write the equation of a fit.

    Parameters
    ----------
    fit : FitTold
        A fit.

    Returns
    -------
    Equation
        All coefficients but the bases', each shown to four digits of its standard error, so that
        a prediction made from the shown figures is off by far less than the error itself.
    """
    parts: list[EquationPart] = []
    for row in rows_of(fit.equation_rows):
        if row.base:
            continue
        decimals = decimals_for(float(row.se), _DIGITS)
        if fit.exact:
            decimals = decimals_for(abs(float(row.estimate)) or 1.0, 6)
        factor = f"[{row.term}: {row.level}]" if row.level else ("" if not parts else str(row.term))
        parts.append(EquationPart(float(row.estimate), number(abs(float(row.estimate)), decimals), factor))
    bases = tuple((t.name, t.base_label if t.column.scheme == "indicator" else "") for t in fit.parts if t.is_group)
    return Equation(fit.outcome.name, tuple(parts), bases)
