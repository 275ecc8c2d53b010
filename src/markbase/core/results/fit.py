"""A fit of either kind, and what it predicts."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, Self, overload

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.design.mean_columns import Setting
from markbase.core.design.requested_terms import Slope
from markbase.core.design.terms import Term, remake
from markbase.core.errors import ColumnError, FitError, LevelError, MarkbaseError, count_noun, near, remark
from markbase.core.estimation.least_squares_solution import Dependent
from markbase.core.reading.equation import make_equation
from markbase.core.reading.guide import Guide, make_guide
from markbase.core.reading.statements import Equation, Lines, Reading
from markbase.core.results.fit_statistics import OverallTest
from markbase.core.results.group_comparisons import Grouped
from markbase.core.study.column import Column

Array = NDArray[np.float64]


@dataclass(frozen=True, eq=False, repr=False)
class Fit(Grouped):
    """A regression, estimated, with its groups to be read and profiles to be predicted."""

    def guide(self) -> Guide:
        """Go through the fit in the order in which it should be read.

        Returns
        -------
        Guide
            The questions to ask, answered with this fit's numbers, and what each means; print it.
        """
        return make_guide(self)  # type: ignore[arg-type]  # a fit of either kind offers what is read

    def _parts_without(self, term: str) -> tuple[Term, ...]:
        names = [t.name for t in self.parts]
        if term not in names:
            raise ColumnError(f"The model has no term `{term}`.{near(term, names)}")
        if len(names) == 1:
            raise FitError(f"`{term}` is the only term, so nothing would be left to fit.")
        return tuple(t for t in self.parts if t.name != term)

    def _parts_of(self, terms: Sequence[str]) -> tuple[Term, ...]:
        names = [t.name for t in self.parts]
        for term in terms:
            if term not in names:
                raise ColumnError(f"The model has no term `{term}`.{near(term, names)}")
        if not terms:
            raise FitError("Nothing would be left to fit.")
        return tuple(t for t in self.parts if t.name in terms)

    def _predictor_at(self, rows: NDArray[np.intp], start: Array | None = None, hidden: Sequence[Term] = ()) -> Array:
        """Return the linear predictor of some rows, from a start of their own if they have one; NaN for a gap or an unseen level."""
        s, starts = self.solution, self.moments.starts
        found = np.full(len(rows), s.at_centres[0] + s.at_centres[1]) if start is None else start.copy()
        by_column = np.zeros(self.moments.cross.shape[0])
        by_column[s.columns] = s.coefficients
        for k, term in enumerate((*self.parts, *hidden), 1):
            block = term.block()
            values = np.ones(1) if block.multiplier is None else block.multiplier[rows] - self.moments.centres[k]
            if block.codes is None:
                found += by_column[starts[k]] * values
            else:
                effects = np.append(by_column[starts[k] : starts[k] + block.levels], np.nan)
                found += effects[block.codes[rows]] * values
        return found

    def identified(self, rows: NDArray[np.intp]) -> tuple[str, list[str]]:
        """Name some rows by the analyst's own identifier.

        Parameters
        ----------
        rows : ndarray of int
            Which rows.

        Returns
        -------
        name : str
            The identifier column, or ``row of the file`` where the data have none.
        labels : list of str
            Its value in each row.
        """
        column = self.identifier
        if column is None:
            return "row of the data", [f"row {k + 1:,}" for k in rows]
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
        singles = {p.name: p.column for t in self._parts_of(terms) for p in (t.parts or (t,))}
        every = (self.outcome, *singles.values(), self.cluster, *self._absorbed_columns)
        gaps = [c.present for c in every if c is not None and c.valid < self.sample.rows]
        return int(np.count_nonzero(np.logical_and.reduce(gaps))) if gaps else self.sample.rows

    @property
    def _absorbed_columns(self) -> tuple[Column, ...]:
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
        return self._on(used, tuple(remake(t, used) for t in self.parts))

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
        """
        return self._convention(alpha)._read()

    def _read(self) -> Reading:
        """Return the sentences."""
        raise NotImplementedError

    def _with_only(self, parts: tuple[Term, ...]) -> Self:
        """Fit some of the terms, on the same rows."""
        raise NotImplementedError

    def _on(self, used: NDArray[np.bool_], parts: tuple[Term, ...]) -> Self:
        """Fit terms made for other rows on them."""
        raise NotImplementedError

    def _with_more(self, more: Sequence[Term]) -> Fit:
        """Fit the same model with more terms, on the same rows."""
        raise NotImplementedError

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
            them), and the test whether parallel lines are enough.

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
        if by is None:
            return make_equation(self)
        group = self._single(by, "categorical")
        lines = []
        for label in group.labels:
            told = self.rebase(by, label)._plainly(by)
            lines.append((label, make_equation(told, without=by)))
        numerics = [
            p for p in {p.name: p for t in self.parts for p in (t.parts or (t,))}.values() if p.kind == "numeric"
        ]
        own = [t.variables[0] for t in self.parts if t.kind == "slope" and t.variables[1] == by]
        test = self._slopes_test(group, numerics, own) if numerics else None
        crossed = any(t.kind == "cross" and by in t.variables for t in self.parts)
        return Lines(self.explained, by, tuple(lines), tuple(own), test, crossed)

    def _plainly(self, by: str) -> Self:
        """Return the same fit with a group told by indicators, whatever its coding."""

        def plain(part: Term) -> Term:
            if part.name == by and not part.parts:
                return replace(part, column=replace(part.column, scheme="indicator"))
            return replace(part, parts=tuple(plain(p) for p in part.parts)) if part.parts else part

        return replace(self, parts=tuple(plain(t) for t in self.parts))

    def _slopes_test(self, group: Term, numerics: Sequence[Term], own: Sequence[str]) -> OverallTest | None:
        """Test whether the slopes of the numeric columns differ by a group, in this model or with them added."""
        fit: Fit = self
        if not own:
            more = [
                Term(Slope(a.name, group.name).name, a.column, group.places, group.base, (a, group))
                for a in numerics
                if any(t.name == a.name for t in self.parts)
            ]
            if not more or not any(t.name == group.name for t in self.parts):
                return None
            try:
                fit = self._with_more(more)
            except (Dependent, MarkbaseError):
                return None  # rows are too few, or too much alike, to tell slopes apart
        rows = [
            k
            for name, ks in zip([t.name for t in fit.parts], fit._own_rows, strict=True)
            if name.endswith(f" by {group.name}")
            for k in ks
        ]
        F = fit._wald(fit._roots[rows], fit._estimates[rows])
        return fit._test_of(F, len(rows))

    def _profile(self, known: Mapping[str, Any]) -> tuple[dict[str, float | Array], list[str]]:
        """Turn named values into a setting, with what must be remarked on."""
        setting: dict[str, float | Array] = {}
        cautions: list[str] = []
        for name, value in known.items():
            variables = [p for t in self.parts for p in (t.parts or (t,)) if p.name == name]
            if not variables:
                names = list(dict.fromkeys(v for t in self.parts for v in t.variables))
                raise ColumnError(f"The model has no column `{name}`.{near(name, names)}")
            term = variables[0]
            if value is None or value == "" or (isinstance(value, float) and np.isnan(value)):
                raise MarkbaseError(f"`{name}` is blank in a profile; give a value, or leave the column out.")
            if term.is_categorical:
                place = term.column.level_at(value)
                if place not in term.places:
                    raise LevelError(
                        f"`{term.column.levels[place].label}` of `{name}` occurs in no row the model was fitted to, so nothing can be "
                        f"predicted for it."
                    )
                setting[name] = (term.places == place).astype(np.float64)
                continue
            try:
                number = float(value)
            except (TypeError, ValueError):
                raise MarkbaseError(f"`{name}` is numeric, and {value!r} is no number.") from None
            if not np.isfinite(number):
                raise MarkbaseError(f"`{name}` is {value!r} in a profile; give a number, or leave it out.")
            low, high, _ = self.spread(name)
            if not low <= number <= high:
                cautions.append(f"`{name}` = {number:g} lies outside the rows used ({low:g} to {high:g})")
            setting[name] = number
        return setting, cautions

    def _unseen(self, setting: Setting) -> list[str]:
        """Name combinations of levels that no row used has."""
        groups = [p for p in self._groups if p.name in setting]
        groups = list({g.name: g for g in groups}.values())
        if len(groups) < 2:
            return []
        together = np.ones(self.sample.rows, dtype=bool) if self.used is None else self.used.copy()
        for g in groups:
            codes = g.block().codes
            assert codes is not None
            together &= codes == int(np.argmax(setting[g.name]))
        if together.any():
            return []
        labels = [f"`{g.name}` `{g.labels[int(np.argmax(setting[g.name]))]}`" for g in groups]
        return [f"no row used has {' and '.join(labels)} together"]

    def predict(self, profiles: Mapping[str, Any] | pd.DataFrame | Sequence[Mapping[str, Any]]) -> pd.DataFrame:
        """Predict for some profiles.

        Parameters
        ----------
        profiles : mapping, sequence of mapping, or DataFrame
            Values of columns of the model, one profile or several. A column that is not given is as in the sample:
            the prediction is averaged over the rows used.

        Returns
        -------
        pandas.DataFrame
            The values given, then for a linear model `predicted`, `se`, `low`, `high` (the mean of all such people) and
            `one_low`, `one_high` (one such person); for a logistic model `probability`, `low`, `high`, `log_odds`, `se`.
            `caution` says where a profile lies outside the data.

        Raises
        ------
        ColumnError
            If a column is not in the model.
        LevelError
            If a level is not in the rows the model was fitted to.
        MarkbaseError
            If a value is missing or no number.

        Warns
        -----
        MarkbaseWarning
            For profiles outside the data.
        """
        if isinstance(profiles, Mapping):
            profiles = [profiles]
        if isinstance(profiles, pd.DataFrame):
            names = {v for t in self.parts for v in t.variables}
            inside = [c for c in profiles.columns if c in names]
            if not inside:
                raise ColumnError("The profiles have no column of the model.")
            rows = [{str(k): v for k, v in row.items()} for row in profiles[inside].to_dict("records")]
        else:
            rows = [dict(p) for p in profiles]
        if not rows:
            raise MarkbaseError("Give at least one profile to predict for.")
        found, outside = [], 0
        for number, known in enumerate(rows, 1):
            try:
                setting, cautions = self._profile(known)
            except MarkbaseError as problem:
                where = f"Profile {number}: " if len(rows) > 1 else ""
                raise type(problem)(f"{where}{problem}") from None
            cautions += self._unseen(setting)
            outside += bool(cautions)
            found.append({**known, **self._predicted(setting), "caution": "; ".join(cautions)})
        if outside:
            where = next(r["caution"] for r in found if r["caution"])
            remark(
                f"{count_noun(outside, 'profile')} {'lies' if outside == 1 else 'lie'} outside the data ({where}"
                f"{', among others' if outside > 1 else ''}): the prediction there rests on the form of the model alone."
            )
        return pd.DataFrame(found)

    def _predicted(self, setting: Setting) -> dict[str, float]:
        raise NotImplementedError
