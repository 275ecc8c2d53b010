"""Tests of whole terms: that all coefficients of a term, or of several, are zero."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import scipy.linalg
from numpy.typing import NDArray

from markbase.core.design.coefficient_map import CoefficientMap
from markbase.core.design.moments import Moments
from markbase.core.design.terms import Term, keys_of
from markbase.core.inference.combinations import Combinations
from markbase.core.inference.joint_tests import JointTest
from markbase.core.inference.standard_errors import Errors

Array = NDArray[np.float64]
_NOTHING = 1e-10
"""Weights on combinations that cancel but for this share cancel."""


@dataclass(frozen=True, eq=False)
class TermTests:
    """The terms of a fit as combinations of its inner coefficients, and Wald's tests of them."""

    terms: tuple[Term, ...]
    """The terms of the model."""
    moments: Moments
    """Where the columns of a term stand."""
    map: CoefficientMap
    """What each coefficient is that the analyst reads."""
    inner: Combinations
    """The inner coefficients."""

    @cached_property
    def each(self) -> list[JointTest]:
        """The test of each term, given all the others."""
        return [
            self.inner.joint(self.tested(term)) if self._contained(term) else self.of_columns([term])
            for term in self.terms
        ]

    @property
    def squares(self) -> Array:
        """Shape (terms,): by how much the residual sum of squares rises without each term, whatever the errors; NaN of one that a higher term contains."""
        plain = replace(self.inner, errors=Errors("classical", math.inf))
        tests = [
            JointTest(math.nan, 0)
            if self._contained(term)
            else own
            if self.inner.errors.middle is None
            else plain.columns(self.places([term]))
            for term, own in zip(self.terms, self.each, strict=True)
        ]
        return np.array([test.statistic * test.df * self.inner.sigma2 for test in tests])

    @property
    def untested(self) -> dict[str, str]:
        """The terms that have no test, each with the reason."""
        return {t.name: test.untested for t, test in zip(self.terms, self.each, strict=True) if test.untested}

    def tested(self, term: Term) -> Array:
        """Return what the test of a term is about, as combinations of the inner coefficients, shape (m, p).

        What no higher term contains is told by its own inner columns, whatever its coding. A term that a higher one contains
        is tested where the others are at their reference, by the rows that the analyst reads, and by what is left of them where these rest on
        combinations of levels that no row has: the differences of two levels, though not those from the base. So the base does not matter.
        """
        if not self._contained(term):
            return self.selected([term])
        redundant = {v.name: v.size - 1 for v in term.groups if v.column.scheme == "effect"}
        own = [
            k
            for k, told in enumerate(self.map.rows)
            if told.term == term.name
            and not told.compared.base
            and not any(redundant.get(group) == level for group, level in told.levels)
        ]
        known = self.map.known[own]
        rows = self.map.chooser[own]
        if known.all():
            return rows
        cancelling = scipy.linalg.null_space(self.map.lacking[own][~known].T, rcond=_NOTHING)
        return np.vstack([rows[known], cancelling.T @ rows[~known]])

    def _contained(self, term: Term) -> bool:
        return any(len(t.names) > len(term.names) and set(term.names) < set(t.names) for t in self.terms)

    def selected(self, terms: Sequence[Term]) -> Array:
        """Return the inner coefficients of some terms as combinations, shape (m, p)."""
        return np.asarray(np.eye(len(self.inner.solution.columns))[self.places(terms)])

    def of_columns(self, terms: Sequence[Term]) -> JointTest:
        """Test whether the inner coefficients of some terms are all zero."""
        return self.inner.columns(self.places(terms))

    def beyond(self, smaller: Sequence[Term]) -> NDArray[np.intp]:
        """Return which of the inner coefficients are of components that the terms of a smaller model lack."""
        inside, known = np.zeros(self.moments.cross.shape[0], dtype=bool), keys_of(smaller)
        for term in self.terms:
            for component, columns in zip(term.components, self.columns_of(term), strict=True):
                inside[columns] = component.key not in known
        return np.flatnonzero(inside[self.inner.solution.columns])

    def places(self, terms: Sequence[Term]) -> NDArray[np.intp]:
        """Return which of the inner coefficients are those of some terms."""
        inside = np.zeros(self.moments.cross.shape[0], dtype=bool)
        for term in terms:
            for columns in self.columns_of(term):
                inside[columns] = True
        return np.flatnonzero(inside[self.inner.solution.columns])

    def columns_of(self, term: Term) -> list[slice]:
        """Return where the columns of each component of a term stand among those of the moments."""
        return self._columns[term.name]

    @cached_property
    def _columns(self) -> dict[str, list[slice]]:
        starts, first = self.moments.starts.tolist(), 1
        found = {}
        for term in self.terms:
            places = enumerate(term.components, first)
            found[term.name] = [slice(starts[k], starts[k] + c.size) for k, c in places]
            first += len(found[term.name])
        return found
