"""A fit of either kind with its rows: what it gives in each of them, read, and fitted again."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any, Self

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.design.mean_columns import Setting
from markbase.core.design.terms import Term, look_over, remake, variables_of
from markbase.core.diagnostics.error_measures import error_measures
from markbase.core.diagnostics.left_out import (
    LeftOut,
    LevelsApart,
    NumericApart,
    left_out_of,
    levels_apart,
    numerics_apart,
)
from markbase.core.errors import (
    ColumnError,
    FitError,
    listed,
    near,
    quoted,
)
from markbase.core.results.group_comparisons import Grouped
from markbase.core.results.predicting import Predicting
from markbase.core.results.readers import readers
from markbase.core.results.simple_slopes import Probed
from markbase.core.rows.row_functions import all_of, refuse_in_parts
from markbase.core.study.column import Column

if TYPE_CHECKING:
    from markbase.core.results.statements import Guide, Reading

Array = NDArray[np.float64]
ROW_NAME = "row of the data"
"""What cases are called where the data have no identifier."""


@dataclass(frozen=True, eq=False, repr=False)
class Fit(Grouped, Probed, Predicting):
    """A regression, estimated, with the rows it was fitted to: fitted values, residuals, sentences, and fits with other terms or rows."""

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

    @property
    def exact(self) -> bool:
        """Whether the terms reproduce the outcome exactly, so that nothing is left to tell errors from."""
        return False

    @cached_property
    def left_out(self) -> LeftOut | None:
        """The outcome in the rows left out that have it, beside that in the rows used: `rows`, `mean`, `mean_used`, `difference`, `se`, `df`, `low`, `high`, `p`.

        By Welch's t, or with clusters by their sums. A first look at whether gaps are by chance; None where fewer than 10 rows left out have the outcome, and with frequency
        weights. Rows are counted once each, also with sampling weights.
        """
        return left_out_of(self)

    @cached_property
    def _left_out_apart(self) -> tuple[tuple[LevelsApart, ...], tuple[NumericApart, ...]]:
        """The groups and the numeric columns by which the rows left out are others than those used."""
        return tuple(levels_apart(self)), tuple(numerics_apart(self))

    @cached_property
    def own_mean(self) -> float:
        """The mean of the outcome in the rows used, or the share of the event: what is predicted with no term at all."""
        inside, often = self._own_rows
        return float(np.average(self.observed_numbers[inside], weights=often))

    @cached_property
    def own_measures(self) -> Mapping[str, float]:
        """How far its predictions are off in the rows used, by name."""
        inside, often = self._own_rows
        own, repeated = self.observed_numbers[inside], self.rows_used.times is not None
        fitted, left = self._fitted[inside], self._residuals[inside]
        return error_measures(self.family.shares, own, fitted, self.own_mean, often, repeated, left)

    @property
    def _own_rows(self) -> tuple[slice | NDArray[np.bool_], Array | None]:
        """Return what indexes the rows used, and with how much each counts."""
        inside = self.rows_used.inside
        return inside, None if self.weights is None else self.weights.values[inside]

    @property
    @abstractmethod
    def observed_numbers(self) -> Array:
        """The outcome of all rows as numbers, shape (rows,): 1 for the event."""

    @cached_property
    def _smear(self) -> float:
        """The mean of the exponentials of the residuals."""
        inside, heavy = self._own_rows
        return float(np.average(np.exp(self.outcome.values[inside] - self._fitted[inside]), weights=heavy))

    @property
    def fitted(self) -> pd.Series[float]:
        """What the model gives for each row of the study, on the index of its table; NaN for a row not used."""
        self._refuse_each_row("a fitted value of each")
        return pd.Series(self._fitted.copy(), index=self.index, name="fitted")

    @property
    def residuals(self) -> pd.Series[float]:
        """Observed less fitted, on the index of the study's table; of a yes/no outcome 1 or 0 less the probability."""
        self._refuse_each_row("a residual of each")
        return pd.Series(self._residuals.copy(), index=self.index, name="residual")

    def _refuse_each_row(self, what: str) -> None:
        refuse_in_parts(self.outcome.values, what, "predict for the study part by part")

    @property
    @abstractmethod
    def _fitted(self) -> Array:
        """What the model gives for each row, shape (rows,)."""

    @property
    def _residuals(self) -> Array:
        """Observed less fitted, shape (rows,); NaN for a row not used."""
        left: Array = (self.outcome.values == 1).astype(np.float64) - self._fitted
        return left

    def _unseen(self, setting: Setting) -> list[str]:
        """Name combinations of levels that no row used has."""
        groups = [p for p in self._groups if p.name in setting]
        groups = list({g.name: g for g in groups}.values())
        if len(groups) < 2:
            return []
        chosen = [g.codes == int(np.argmax(setting[g.name])) for g in groups]
        if all_of(chosen if self.used is None else [*chosen, self.used]).any():
            return []
        labels = [f"`{g.name}` `{g.labels[int(np.argmax(setting[g.name]))]}`" for g in groups]
        return [f"no row used has {' and '.join(labels)} together"]

    def rows_for(self, terms: Sequence[str]) -> int:
        """Count the rows that have a value in the outcome and in some of the terms, and a weight where rows count by it.

        Parameters
        ----------
        terms : sequence of str
            Names of terms of this fit.

        Returns
        -------
        int
            The rows a fit of these alone could use.
        """
        return self._rows_for(self._parts_of(terms))

    def _rows_for(self, terms: Sequence[Term]) -> int:
        singles = {v.name: v.column for v in variables_of(terms).values()}
        every = (self.outcome, *singles.values(), *self.drawn_by, *self._fixed_columns)
        gaps = [c.present for c in every if c is not None and c.valid < self.sample.rows]
        gaps += [self.weights.present] if self.weights else []
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

    def without_clusters(self) -> pd.DataFrame:
        """Tell what every coefficient would be without each cluster: whether it rests on one of them.

        Returns
        -------
        pandas.DataFrame
            A row a cluster and coefficient: `cluster` (where errors are clustered two ways with the name of its column before it), `rows` (how many it has), `term`, `level`, `estimate`, `se`, `without` (what it would be; NaN
            where it cannot be estimated without the cluster) and `moves` (by how many of its standard errors that differs).

        Raises
        ------
        MarkbaseError
            If the fit has no clusters.
        FitError
            If levels taken out lie in several clusters.

        Notes
        -----
        With X the columns, b(g) = b − (XᵀX − X_gᵀX_g)⁻¹X_gᵀe_g, which is what a linear fit without the cluster gives; of a logistic fit it is
        one Newton step from the estimates.

        References
        ----------
        Belsley, Kuh & Welsch (1980), Regression Diagnostics, ch. 2, doi:10.1002/0471725153.
        MacKinnon, Nielsen & Webb (2023), Journal of Applied Econometrics 38(5), 671-694, doi:10.1002/jae.2969.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_linear(study, "belonging", ["age", "voice"], cluster="choir", errors="CR3")
        >>> len(fit.without_clusters())  # 24 choirs, 5 coefficients
        120
        """
        return readers().without_clusters(self)

    @abstractmethod
    def _with_only(self, parts: tuple[Term, ...]) -> Self:
        """Fit some of the terms, on the same rows."""

    @cached_property
    def _heavy_cases(self) -> Any:
        """The rows that decide alone what is told of a coefficient, at most three."""
        return readers().heavy_cases(self)

    @cached_property
    def _on_some(self) -> Any:
        """The same model on some thousand rows where there are very many, itself where not; None where that cannot be had."""
        return readers().some_rows(self)

    @abstractmethod
    def _on(self, used: NDArray[np.bool_], parts: tuple[Term, ...]) -> Self:
        """Fit terms made for other rows on them."""

    @abstractmethod
    def _with_more(self, more: Sequence[Term]) -> Fit:
        """Fit the same model with more terms, on the same rows."""
