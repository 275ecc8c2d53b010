"""A fit of either kind: read, written as an equation, fitted again."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING, Self, overload

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.terms import Term, look_over, remake, variables_of
from markbase.core.errors import (
    ColumnError,
    FitError,
    MarkbaseError,
    count_noun,
    listed,
    near,
    quoted,
)
from markbase.core.estimation.least_squares_solution import Dependent
from markbase.core.results.fit_statistics import OverallTest
from markbase.core.results.predicting import Predicting
from markbase.core.results.readers import readers
from markbase.core.rows.row_functions import all_of
from markbase.core.study.column import Column

if TYPE_CHECKING:
    from markbase.core.results.statements import Equation, Guide, Lines, Reading

Array = NDArray[np.float64]
ROW_NAME = "row of the data"
"""What cases are called where the data have no identifier."""


@dataclass(frozen=True, eq=False, repr=False)
class Fit(Predicting):
    """A regression, estimated: read, written as an equation, and fitted again with other terms or rows."""

    def guide(self) -> Guide:
        """Go through the fit in the order in which it should be read.

        Returns
        -------
        Guide
            The questions to ask, answered with this fit's numbers, and what each means; print it.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_linear(study, "belonging", ["age", "voice"])
        >>> [step.question for step in fit.guide().steps]
        ['Which rows?', 'Does the model say anything?', 'How much?', 'Which terms?', 'Which groups? `voice`', 'What must be said with it?']
        """
        return readers().guide(self)

    @property
    def _brief(self) -> str:
        return f"{self.explained} on {count_noun(len(self.model_terms), 'term')}, {self.sample.used:,} rows"

    def _parts_without(self, term: str) -> tuple[Term, ...]:
        names = [t.name for t in self.model_terms]
        if term not in names:
            raise ColumnError(f"The model has no term `{term}`.{near(term, names)}")
        if len(names) == 1:
            raise FitError(f"`{term}` is the only term, so nothing would be left to fit.")
        own = next(t for t in self.model_terms if t.name == term)
        higher = [t.name for t in self.model_terms if set(own.names) < set(t.names)]
        if higher:
            raise FitError(
                f"`{term}` is part of {listed(quoted(higher))}, which would mean something else without it; leave {'that' if len(higher) == 1 else 'those'} "
                f"out first."
            )
        return tuple(t for t in self.model_terms if t.name != term)

    def _parts_of(self, terms: Sequence[str]) -> tuple[Term, ...]:
        names = [t.name for t in self.model_terms]
        for term in terms:
            if term not in names:
                raise ColumnError(f"The model has no term `{term}`.{near(term, names)}")
        if not terms:
            raise FitError("Nothing would be left to fit.")
        return tuple(t for t in self.model_terms if t.name in terms)

    def identified(self, rows: NDArray[np.intp]) -> tuple[str, list[str]]:
        """Name some rows by the analyst's own identifier.

        Parameters
        ----------
        rows : ndarray of int
            Which rows.

        Returns
        -------
        name : str
            The identifier column, or ``row of the data`` where the data have none.
        labels : list of str
            Its value in each row.
        """
        column = self.identifier
        if column is None:
            return ROW_NAME, [f"row {k + 1:,}" for k in rows]
        if column.is_categorical:
            return column.name, [column.levels[v].label if v >= 0 else "–" for v in column.values[rows]]
        return column.name, [f"{v:.0f}" if v == round(v) else f"{v:g}" for v in column.values[rows]]

    def rows_for(self, terms: Sequence[str]) -> int:
        """Count the rows that have a value in the outcome and in some of the terms.

        Parameters
        ----------
        terms : sequence of str
            Names of terms of this fit.

        Returns
        -------
        int
            The rows a fit of these alone could use.
        """
        singles = {v.name: v.column for v in variables_of(self._parts_of(terms)).values()}
        every = (self.outcome, *singles.values(), self.cluster, *self._fixed_columns)
        gaps = [c.present for c in every if c is not None and c.valid < self.sample.rows]
        return int(np.count_nonzero(all_of(gaps))) if gaps else self.sample.rows

    @property
    def _fixed_columns(self) -> tuple[Column, ...]:
        return ()

    def without(self, term: str) -> Self:
        """Fit the same model without one of its terms, on the same rows.

        Parameters
        ----------
        term : str
            The name of a term.

        Returns
        -------
        LinearFit or LogisticFit
            The smaller fit, of the same kind.

        Raises
        ------
        ColumnError
            If the model has no such term.
        FitError
            If it is the only one.
        """
        return self._with_only(self._parts_without(term))

    def only(self, terms: Sequence[str]) -> Self:
        """Fit some of the terms, on the same rows. Linear fits with classical errors do not touch the rows.

        Parameters
        ----------
        terms : sequence of str
            Names of terms of this fit.

        Returns
        -------
        LinearFit or LogisticFit
            The smaller fit, of the same kind, its terms in the order of this one.

        Raises
        ------
        ColumnError
            If the model has no such term.
        """
        return self._with_only(self._parts_of(terms))

    def on_rows(self, used: NDArray[np.bool_]) -> Self:
        """Fit the same terms on other rows.

        Parameters
        ----------
        used : ndarray of bool, shape (rows,)
            The rows.

        Returns
        -------
        LinearFit or LogisticFit
            The other fit, of the same kind; bases are kept where they occur.

        Raises
        ------
        FitError
            If levels are taken out; and as the function of its kind.
        """
        look_over([v.column for v in self.variables], used)
        return self._on(used, tuple(remake(t, used) for t in self.model_terms))

    def reading(self, alpha: float | None = None) -> Reading:
        """Say what each coefficient means, with the cautions that belong to it: in odds and in probability, of a logistic fit.

        Parameters
        ----------
        alpha : float, optional
            Below which p counts as clear evidence; by default one less the confidence level. The exact p always
            stands beside.

        Returns
        -------
        Reading
            A sentence a coefficient; print it, or take its `statements`.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_linear(study, "belonging", ["age", "voice"])
        >>> print(fit.reading().statements[-2].text)
        For `voice` `tenor`, compared with the base `alto`, `belonging` is on average 3.94 points higher (95% CI 2.13 to 5.74 higher, p < .001), other terms held equal.
        """
        return self._convention(alpha)._reading

    @cached_property
    def _reading(self) -> Reading:
        return readers().reading(self)

    @abstractmethod
    def _with_only(self, parts: tuple[Term, ...]) -> Self:
        """Fit some of the terms, on the same rows."""

    @abstractmethod
    def _on(self, used: NDArray[np.bool_], parts: tuple[Term, ...]) -> Self:
        """Fit terms made for other rows on them."""

    @abstractmethod
    def _with_more(self, more: Sequence[Term]) -> Fit:
        """Fit the same model with more terms, on the same rows."""

    @overload
    def equation(self) -> Equation: ...

    @overload
    def equation(self, *, by: str) -> Lines: ...

    def equation(self, *, by: str | None = None) -> Equation | Lines:
        """Write the fitted equation, complete; print it, or take its `text`.

        Parameters
        ----------
        by : str, optional
            A group: then one line for each of its levels, with its own start (and its own slopes, where the model has
            them), and the test of equal slopes.

        Returns
        -------
        Equation or Lines
            The intercept and every coefficient that is not a base, and the bases; each number is computed before it is
            rounded.

        Raises
        ------
        ColumnError
            If the model has no such group.
        """
        return readers().equation(self) if by is None else readers().lines(self, by)

    def plainly(self, by: str) -> Self:
        """Return the same fit with a group told by indicators, whatever its coding."""
        group = self.variable(by, "categorical")
        changed = {by: replace(group, column=replace(group.column, scheme="indicator"))}
        return replace(self, model_terms=tuple(t.with_variables(changed) for t in self.model_terms))

    def slopes_test(self, by: str) -> OverallTest | None:
        """Test whether slopes differ by a group: of the numeric columns of the model that do, or of all with it added.

        Parameters
        ----------
        by : str
            A group of the model.

        Returns
        -------
        OverallTest or None
            None where there is no numeric column, or the rows cannot tell slopes apart.
        """
        fit: Fit = self
        group = self.variable(by, "categorical")
        own = [t for t in self.model_terms if t.groups == (group,) and t.numerics]
        if not own:
            names = [t.names for t in self.model_terms]
            mains = [t for t in self.model_terms if t.kind in ("numeric", "polynomial")]
            if not mains or (by,) not in names:
                return None
            own = [Term(f"{t.name} × {by}", (*t.variables, group), (*t.degrees, 1)) for t in mains]
            try:
                fit = self._with_more(own)
            except (Dependent, MarkbaseError):
                return None  # rows are too few, or too much alike, to tell slopes apart
        return fit._as_overall(fit.inner.joint(np.vstack([fit.term_tests.tested(t) for t in own])))
