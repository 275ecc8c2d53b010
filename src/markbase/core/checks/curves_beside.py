"""Whether an interaction stays clear beside the squares of its numeric columns: of columns that go together a product stands in for a curve.

References
----------
Lubinski & Humphreys (1990), Psychological Bulletin 107(3), 385-393, doi:10.1037/0033-2909.107.3.385.
MacCallum & Mar (1995), Psychological Bulletin 118(3), 405-421, doi:10.1037/0033-2909.118.3.405.
"""

from __future__ import annotations

from typing import NamedTuple

from markbase.core.checks.some_rows import of_which_rows
from markbase.core.checks.straight_lines import squared
from markbase.core.design.terms import Term
from markbase.core.errors import FitError, without_remarks
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.linear import LinearFit
from markbase.core.tables import records_of


class BesideCurves(NamedTuple):
    """An interaction that is clear, and not beside the squares of its numeric columns."""

    columns: tuple[str, ...]
    """The columns whose squares were added."""
    p: float
    """The p of the interaction beside them."""
    squares: float
    """The smallest p of these squares."""
    where: str
    """In which rows, after these figures; empty for all."""


@without_remarks()
def unclear_beside_curves(fit: AnyFit, term: Term) -> BesideCurves | None:
    """Return that a clear interaction of two columns is not clear beside squares that are: of its numeric columns, as far as the model does not have them.

    None for one that stays clear, or turns unclear beside squares that tell nothing. Of very many rows some are looked at.
    """
    numerics = {v.name: v for v in term.numerics}
    if len(term.names) != 2 or not numerics or any(d > 1 for d in term.degrees) or fit.exact:
        return None
    curved = {t.names[0] for t in fit.model_terms if t.kind == "polynomial" and len(t.names) == 1}
    names = tuple(name for name, v in numerics.items() if name not in curved and not v.column.two_values)
    penalised = not isinstance(fit, LinearFit) and bool(fit.penalty)
    whole, some = fit, None if penalised or not names or term.name in fit.untested else fit._on_some
    if some is None or some.exact or not _p_of(some, term.name) < fit.alpha:
        return None
    squares = [squared(some, name) for name in names]
    try:
        more = some._with_more(squares)
        p = _p_of(more, term.name)
        least = min(_p_of(more, t.name) for t in squares)
    except FitError:
        return None
    if not (p >= fit.alpha > least):
        return None
    return BesideCurves(names, p, least, of_which_rows(some, whole))


def _p_of(fit: AnyFit, name: str) -> float:
    row = next(r for r in records_of(fit.terms) if r["term"] == name)
    return fit._judged(name, float(row["p"]))
