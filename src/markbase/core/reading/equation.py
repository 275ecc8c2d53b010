"""The fitted equation, with every term in it."""

from __future__ import annotations

import math

from markbase.core.formatting import decimals_for, number
from markbase.core.reading.statements import Equation, EquationPart, EquationTold, TermTold
from markbase.core.tables import rows_of

_DIGITS = 4


def make_equation(fit: EquationTold, without: str = "") -> Equation:
    """Write the equation of a fit.

    Parameters
    ----------
    fit : EquationTold
        A fit.
    without : str
        A group whose terms are left out: the equation is then that of its base.

    Returns
    -------
    Equation
        All coefficients but the bases', each shown to four digits of its standard error, so that
        a prediction made from the shown figures is off by far less than the error itself.
    """
    parts: list[EquationPart] = []
    kinds = {t.name: t for t in fit.parts}
    for row in rows_of(fit.equation_rows):
        term = kinds.get(str(row.term))
        if row.base or math.isnan(row.estimate) or (term is not None and without in (term.variables or (term.name,))):
            continue
        decimals = decimals_for(float(row.se), _DIGITS)
        if fit.exact:
            decimals = decimals_for(abs(float(row.estimate)) or 1.0, 6)
        factor = _factor(term, str(row.term), str(row.level)) if parts else ""
        parts.append(EquationPart(float(row.estimate), number(abs(float(row.estimate)), decimals), factor))
    groups = {p.name: p for t in fit.parts for p in (t.parts or (t,)) if p.is_categorical}
    bases = tuple((g.name, g.base_label if g.column.scheme == "indicator" else "") for g in groups.values())
    bases = tuple(pair for pair in bases if pair[0] != without)
    return Equation(fit.explained, tuple(parts), bases)


def _factor(term: TermTold | None, name: str, level: str) -> str:
    """Write what a coefficient multiplies."""
    if term is None or not level:
        return name
    if term.kind == "slope":
        return f"{term.variables[0]}·[{term.variables[1]}: {level}]"
    if term.kind == "cross":
        pair = level.split(" × ", 1)
        return "·".join(f"[{n}: {v}]" for n, v in zip(term.variables, pair, strict=True))
    return f"[{name}: {level}]"
