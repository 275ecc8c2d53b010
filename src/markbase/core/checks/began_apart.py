"""Whether groups, or rows, whose change is compared began apart, so that they differ otherwise beside what they began from.

References
----------
Lord (1967), Psychological Bulletin 68(5), 304-305, doi:10.1037/h0025105.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from markbase.core.checks.one_more_term import with_each
from markbase.core.checks.some_rows import of_which_rows
from markbase.core.design.shared_changes import Beginning
from markbase.core.design.terms import single
from markbase.core.errors import without_remarks
from markbase.core.results.linear import LinearFit
from markbase.core.rows.parts import in_parts
from markbase.core.tables import TableRow, records_of

_MOVED = 1.0
"""A coefficient that moves by so many of its standard errors is told; those of groups drawn by lot move less."""


class BeganApart(NamedTuple):
    """A coefficient of a change that is another one beside what the change began from."""

    beginning: Beginning
    """What it began from."""
    without: TableRow
    """The coefficient, a row of the table."""
    beside: TableRow
    """The same beside that."""
    base: str
    """The level it is held against; empty for none."""
    falls_back: bool
    """Whether those who began high fell, others held equal."""
    where: str
    """In which rows, after these figures; empty for all."""


@without_remarks()
def began_apart(fit: LinearFit, term: str = "") -> BeganApart | None:
    """Return the coefficient of a change, of one term or any, that moves most, by one standard error or more, as what the change began from enters the model.

    None where the outcome is no change, what it began from has gaps in the rows used, or levels are taken out. Of very many rows some are looked at.
    """
    if fit.began is None or fit.fixed_effect_names:
        return None
    whole, fit = fit, fit._on_some
    if fit is None or fit.began is None or fit.exact:
        return None
    began = fit.began.column
    if in_parts(began.values) or np.isnan(began.values[fit.rows_used.inside]).any():
        return None
    (more,) = with_each(fit, [single(began)])
    if more is None:
        return None
    beside = {(str(r["term"]), str(r["level"])): r for r in records_of(more.coefficients)}
    of_terms = records_of(fit.coefficients)[1:]
    rows = [r for r in of_terms if not r["base"] and r["se"] > 0 and term in ("", r["term"])]
    moves = {k: abs(beside[r["term"], r["level"]]["estimate"] - r["estimate"]) / r["se"] for k, r in enumerate(rows)}
    most = max(moves, key=lambda k: moves[k], default=None)
    if most is None or not moves[most] >= _MOVED:
        return None
    row = rows[most]
    slope = float(beside[began.name, ""]["estimate"])
    return BeganApart(
        fit.began,
        row,
        beside[row["term"], row["level"]],
        next((str(r["level"]) for r in of_terms if r["base"] and r["term"] == row["term"]), ""),
        (slope > 0) == fit.began.turned,
        of_which_rows(fit, whole),
    )
