"""What a difference between two levels is a mean of, where levels of persons or places and of times are held equal: the weights of single rows.

A coefficient is Σ ω y with weights that follow from the terms alone. Over the rows of one level they sum to 1, so that it is the mean, weighted by
ω, of the differences of these rows from what they would be at the other level. Levels that begin at several times weigh some rows below 0.

References
----------
de Chaisemartin & D'Haultfœuille (2020), American Economic Review 110(9), 2964-2996, doi:10.1257/aer.20181169.
Goodman-Bacon (2021), Journal of Econometrics 225(2), 254-277, doi:10.1016/j.jeconom.2021.03.014.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.terms import Term
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.linear import LinearFit
from markbase.core.rows.parts import in_parts
from markbase.core.rows.row_functions import ends_by_code
from markbase.core.study.column import Column

Array = NDArray[np.float64]
_MATTERS, _MOST_ROWS, _MOST_TERMS = 0.01, 1_000_000, 12
"""So much of negative weight, beside 1 and so much more, is told; in fits of no more rows and such terms."""
_NO_WEIGHT = 1e-9
"""A weight that is 0 but for rounding, as a share of the largest."""


class Weighed(NamedTuple):
    """The weights of the rows of a level in its difference from the other."""

    level: str
    """The level, or the value, whose rows they are of."""
    share: float
    """The share of its rows whose weight is below 0."""
    negative: float
    """What these weigh together, where all weigh 1."""


def negative_weights(fit: AnyFit, among: set[str]) -> dict[str, Weighed]:
    """Return, by term, where rows of a level count with a negative weight in its difference from the only other one.

    Asked of groups and numbers of two values beside levels of two columns at least, one of which is taken out. It is told of the level that comes
    after the other, or else of that with less of it, since the rows of controls before a change count against them as they should.
    """
    if not isinstance(fit, LinearFit) or fit.exact or not fit.fixed_effect_names or in_parts(fit.outcome.values):
        return {}
    sorts = [*fit._fixed_columns, *(v.column for v in fit.variables if v.is_categorical and v.size > 2)]
    often = [name for term in fit.model_terms for name in term.names]
    terms = [t for t in fit.model_terms if t.name in among and often.count(t.names[0]) == 1 and _two(t)]
    if len(sorts) < 2 or fit.sample.used > _MOST_ROWS or not 0 < len(terms) <= _MOST_TERMS:
        return {}
    found = {term.name: _weighed(fit, term, sorts) for term in terms}
    return {name: own for name, own in found.items() if own is not None and own.negative <= -_MATTERS}


def _two(term: Term) -> tuple[object, object] | None:
    """Return the two values of a term, in the codes of its column, that of the base first; None if it has more."""
    variable = term.variables[0]
    if not term.is_categorical:
        return term.column.two_values
    if variable.size != 2 or term.column.scheme != "indicator":
        return None
    return variable.places[variable.base], variable.places[1 - variable.base]


def _weighed(fit: LinearFit, term: Term, sorts: Sequence[Column]) -> Weighed | None:
    ends = _two(term)
    rows = fit.coefficient_rows
    place = next(k for k, r in enumerate(rows.map.rows) if r.term == term.name and not r.compared.base)
    if ends is None or not rows.map.known[place]:
        return None
    inside = slice(None) if fit.used is None else fit.used
    whole = np.zeros(fit.sample.rows)
    for chunk, Q, _, share in fit._whitened.chunks():
        whole[chunk] = share * (Q @ rows.roots[place])
    weights, values = whole[inside], term.column.values[inside]
    labels = term.variables[0].labels if term.is_categorical else [f"{end:g}" for end in ends]
    if term.is_categorical:
        base = term.variables[0].base
        labels = [labels[base], labels[1 - base]]
    each = []
    for end, label in zip(ends, labels, strict=True):
        own = weights[values == end]
        own = own / own.sum()
        below = own < -_NO_WEIGHT * np.abs(own).max()
        each.append(Weighed(label, float(below.mean()), float(own[below].sum())))
    later = _later([values == end for end in ends], [column.values[inside] for column in sorts])
    return max(each, key=lambda w: w.negative) if later is None else each[later]


def _later(rows: Sequence[NDArray[np.bool_]], sorts: Sequence[NDArray[np.integer]]) -> int | None:
    """Return which of two levels, by their rows, comes after the other wherever both are, by the order of the levels of one column within those of another."""
    for units, times in itertools.permutations(sorts, 2):
        size = int(units.max()) + 1
        ends = [ends_by_code(times[own].astype(np.float64), units[own], size) for own in rows]
        both = np.isfinite(ends[0][0]) & np.isfinite(ends[1][0])
        for later in (0, 1):
            if both.any() and np.all(ends[1 - later][1][both] < ends[later][0][both]):
                return later
    return None
