"""The fitted equation, with every term in it."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.coefficient_map import Coefficient, CoefficientMap
from markbase.core.design.terms import POWER_MARKS, Term
from markbase.core.errors import MarkbaseError
from markbase.core.formatting import decimals_for, number
from markbase.core.reading.cell_cautions import no_start
from markbase.core.reading.clauses import overstated_words
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.coefficient_rows import CoefficientRows
from markbase.core.results.fit_statistics import OverallTest
from markbase.core.results.statements import Equation, EquationPart, Lines
from markbase.core.results.stored_fit import StoredFit

Array = NDArray[np.float64]
_DIGITS = 4


def make_equation(fit: AnyFit | StoredFit) -> Equation:
    """Write the equation of a fit.

    All coefficients but the bases', each shown to four digits of its standard error, so that a prediction made from the
    shown figures is off by far less than the error itself.
    """
    return _of_rows(fit, CoefficientRows(fit.equation_map, fit.inner))


def combined_equation(fit: AnyFit, estimates: Array, se: Array) -> Equation:
    """Write the equation of a fit with other coefficients, one for each row of its equation, and their errors: those combined over imputations."""
    return _written(fit, fit.equation_map, estimates, se)


def _of_rows(fit: AnyFit | StoredFit, rows: CoefficientRows, without: str = "") -> Equation:
    return _written(fit, rows.map, rows.estimates, rows.se, without)


def _written(
    fit: AnyFit | StoredFit, coefficients: CoefficientMap, estimates: Array, errors: Array, without: str = ""
) -> Equation:
    """Write some coefficients of a fit as an equation, `without` the base of a group at one of whose levels it is."""
    parts: list[EquationPart] = []
    for told, estimate, se in zip(coefficients.rows, estimates.tolist(), errors.tolist(), strict=True):
        if told.compared.base or math.isnan(estimate):
            continue
        decimals = decimals_for(se, _DIGITS) if not math.isnan(se) else 4
        if fit.exact:
            decimals = decimals_for(abs(estimate) or 1.0, 6)
        factor = _factor(told) if parts else ""
        parts.append(EquationPart(estimate, number(abs(estimate), decimals), factor, told.term if factor else ""))
    groups = {v.name: v for t in fit.model_terms for v in t.groups}
    bases = tuple((g.name, g.base_label if g.column.scheme == "indicator" else "") for g in groups.values())
    bases = tuple(pair for pair in bases if pair[0] != without)
    why = no_start(fit).replace("`", "") if not coefficients.known[0] else ""
    untold = why and f"the equation cannot be told from these bases: {why}"
    return Equation(fit.explained, () if untold else tuple(parts), bases, untold)


def _factor(told: Coefficient) -> str:
    """Write what a coefficient multiplies."""
    powers = [f"{name}{POWER_MARKS[power]}" for name, power in told.powers]
    groups = [f"[{group}: {level}]" for group, level in told.shown_levels]
    return "·".join([*powers, *groups])


def make_lines(fit: AnyFit | StoredFit, by: str) -> Lines:
    """Write the equation of a fit as one line for each level of a group, with the test whether slopes differ."""
    group = fit.variable(by, "categorical")
    lines = [(label, _of_rows(fit, fit._equation_at(by, k), without=by)) for k, label in enumerate(group.labels)]
    with_group = [t for t in fit.model_terms if by in t.names and len(t.names) > 1]
    own = tuple(dict.fromkeys(v.name for t in with_group for v in t.numerics))
    crossed = tuple(dict.fromkeys(v.name for t in with_group for v in t.groups if v.name != by))
    return Lines(fit.explained, by, tuple(lines), own, *_slopes_test(fit, by), crossed=crossed)


def _slopes_test(fit: AnyFit | StoredFit, by: str) -> tuple[OverallTest | None, str]:
    """Test whether slopes differ by a group: of the numeric columns of the model that do, or of all with it added; and say if it is overstated.

    None where there is no numeric column, or the rows cannot tell slopes apart.
    """
    group = fit.variable(by, "categorical")
    own = [t for t in fit.model_terms if t.groups == (group,) and t.numerics]
    if not own:
        names = [t.names for t in fit.model_terms]
        mains = [t for t in fit.model_terms if t.kind in ("numeric", "polynomial")]
        if not mains or (by,) not in names or isinstance(fit, StoredFit):
            return None, ""
        own = [Term(f"{t.name} × {by}", (*t.variables, group), (*t.degrees, 1)) for t in mains]
        try:
            fit = fit._with_more(own)
        except MarkbaseError:
            return None, ""  # rows are too few, or too much alike, to tell slopes apart
    tested = np.vstack([fit.term_tests.tested(t) for t in own])
    test = fit.inner.joint(tested)
    (overstated,) = [None] if isinstance(fit, StoredFit) else fit._overstated_among([(tested, test)])
    return fit._as_overall(test), "" if isinstance(fit, StoredFit) else overstated_words(fit, overstated)
