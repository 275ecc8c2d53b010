"""A fit of either kind, and what it predicts."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any, Self, overload

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.arguments import told_value
from markbase.core.design.coefficient_map import components_of
from markbase.core.design.mean_columns import Setting
from markbase.core.design.terms import Term, look_over, remake, variables_of
from markbase.core.errors import (
    ColumnError,
    FitError,
    LevelError,
    MarkbaseError,
    count_noun,
    listed,
    near,
    quoted,
    remark,
)
from markbase.core.estimation.least_squares_solution import Dependent
from markbase.core.inference.marginal_effects import known_profile
from markbase.core.results.fit_statistics import OverallTest
from markbase.core.results.predictions import NewRows, head_of, new_rows
from markbase.core.results.readers import readers
from markbase.core.results.simple_slopes import Probed
from markbase.core.rows.row_functions import all_of, look_up, refuse_in_parts
from markbase.core.study.column import Column
from markbase.core.study.derived_values import can_follow
from markbase.core.study.frames import columns_of
from markbase.core.study.study import Study

if TYPE_CHECKING:
    from markbase.core.results.statements import Equation, Guide, Lines, Reading

Array = NDArray[np.float64]
ROW_NAME = "row of the data"
"""What cases are called where the data have no identifier."""


@dataclass(frozen=True, eq=False, repr=False)
class Fit(Probed):
    """A regression, estimated, with its groups to be read and profiles to be predicted."""

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

    def _predictor_at(
        self, rows: NDArray[np.intp] | None, start: Array | None = None, hidden: Sequence[Term] = ()
    ) -> Array:
        """Return the linear predictor of some rows, None for all, from a start of their own if they have one; NaN for a gap or an unseen level."""
        s, starts = self.solution, self.moments.starts
        chosen = slice(None) if rows is None else rows
        found: Any = s.at_centres[0] + s.at_centres[1] if start is None else start
        by_column = np.zeros(self.moments.cross.shape[0])
        by_column[s.columns] = s.coefficients
        for k, component in enumerate(components_of([*self.model_terms, *hidden]), 1):
            block = component.coded()
            values = 1.0 if block.multiplier is None else block.multiplier[chosen] - self.moments.centres[k]
            if block.codes is None:
                found = found + by_column[starts[k]] * values
            else:
                effects = np.append(by_column[starts[k] : starts[k] + block.levels], np.nan)
                found = found + look_up(effects, block.codes[chosen]) * values
        predictor: Array = found
        return predictor

    def expected_in(self, study: Study) -> Array:
        """Return what the model gives for each row of a study with the same columns, shape (rows,); NaN for a gap or an unseen level."""
        own = {n: replace(v, column=study.column(n)) for n, v in variables_of(self.model_terms).items()}
        there = replace(self, model_terms=tuple(t.with_variables(own) for t in self.model_terms))
        return self.family.expected(there._predictor_at(None))

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
        return fit._as_overall(fit.inner.joint(np.vstack([fit._tested(t) for t in own])))

    def _profile(self, known: Mapping[str, Any]) -> tuple[dict[str, float | Array], list[str]]:
        """Turn named values into a setting, with what must be remarked on."""
        setting: dict[str, float | Array] = {}
        cautions: list[str] = []
        for name, value in known.items():
            variables = variables_of(self.model_terms)
            if name not in variables:
                raise ColumnError(f"The model has no column `{name}`.{near(name, list(variables))}")
            term = variables[name]
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
        chosen = [g.codes == int(np.argmax(setting[g.name])) for g in groups]
        if all_of(chosen if self.used is None else [*chosen, self.used]).any():
            return []
        labels = [f"`{g.name}` `{g.labels[int(np.argmax(setting[g.name]))]}`" for g in groups]
        return [f"no row used has {' and '.join(labels)} together"]

    def predict(
        self, profiles: Mapping[str, Any] | Sequence[Mapping[str, Any]] | Study | Any, *, back_transformed: bool = False
    ) -> pd.DataFrame:
        """Predict for some profiles, or for every row of a table.

        Parameters
        ----------
        profiles : mapping, sequence of mapping, Study or table
            Values of columns of the model: one profile, several, or a table (pandas, Polars, PyArrow, a study) with a row a case.
            A column that is not given is as in the sample: the prediction is averaged over the rows used. Columns that were
            derived from others follow them.
        back_transformed : bool
            For a logged outcome: also its geometric mean in the unit it was made of (`geometric_mean`, `geometric_low`,
            `geometric_high`), and the mean by Duan's smearing (`mean_smeared`; NaN of a saved fit, which has no residuals, where a profile
            leaves a column to the average over the rows, and with fixed effects).

        Returns
        -------
        pandas.DataFrame
            The values given (of a table also its identifier, and `observed` where it has the outcome),
            then for a linear model `predicted`, `se`, `low`, `high` (the mean of all such people) and `one_low`, `one_high`
            (one such person: with the spread of the residuals, and of what the profile does not name); for a logistic model
            `probability`, `low`, `high`, `log_odds`, `se`. `residual` where the outcome is known. `caution` says where a row has
            a gap, which gives no prediction and no stop, or lies outside the data.

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

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_linear(study, "belonging", ["age", "voice"])
        >>> fit.predict({"voice": "tenor", "age": 30})[["predicted", "low", "high"]].round(1)
           predicted   low  high
        0       60.4  58.7  62.0
        """
        if isinstance(profiles, Mapping):
            profiles = [profiles]
        if isinstance(profiles, (str, bytes)) or (not hasattr(profiles, "__len__") and not isinstance(profiles, Study)):
            raise MarkbaseError(
                f"Predictions are for profiles or for the rows of a table, not for {told_value(profiles)}."
            )
        if isinstance(profiles, (list, tuple)) and not all(isinstance(p, Mapping) for p in profiles):
            raise MarkbaseError(
                f"A profile is a table of columns and values, such as {{'age': 30}}, not {told_value(profiles)}."
            )
        if not isinstance(profiles, (list, tuple)):
            table = self._predicted_rows(profiles)
            if table is not None:
                return self._back(table, np.ones(len(table), dtype=bool)) if back_transformed else table
            columns = dict(columns_of(profiles))
            inside = [c for c in columns if c in variables_of(self.model_terms)]
            if not inside:
                raise ColumnError("The profiles have no column of the model.")
            rows = [
                dict(zip(inside, values, strict=True))
                for values in zip(*(columns[c].tolist() for c in inside), strict=True)
            ]
        else:
            rows = [dict(p) for p in profiles]
        if not rows:
            raise MarkbaseError("Give at least one profile to predict for.")
        told = [*self._predicted_each(rows)]
        found, named = [row for row, _ in told], [complete for _, complete in told]
        outside = sum(bool(row["caution"]) for row in found)
        if outside:
            where = next(r["caution"] for r in found if r["caution"])
            remark(
                f"{count_noun(outside, 'profile')} {'lies' if outside == 1 else 'lie'} outside the data ({where}"
                f"{', among others' if outside > 1 else ''}): the prediction there rests on the form of the model alone."
            )
        table = pd.DataFrame(found)
        return self._back(table, np.array(named)) if back_transformed else table

    def _predicted_each(self, rows: Sequence[Mapping[str, Any]]) -> Iterator[tuple[dict[str, Any], bool]]:
        """Predict for profiles, those alike once; yield what is told of each, and whether it leaves nothing to an average over the rows."""
        alike: dict[tuple[tuple[str, Any], ...], tuple[dict[str, Any], bool]] = {}
        for number, known in enumerate(rows, 1):
            key = tuple(known.items())
            plain = all(isinstance(v, (str, int, float)) for v in known.values())
            if not plain or key not in alike:
                try:
                    setting, cautions = self._profile(known)
                except MarkbaseError as problem:
                    where = f"Profile {number}: " if len(rows) > 1 else ""
                    raise type(problem)(f"{where}{problem}") from None
                cautions += self._unseen(setting)
                told = {**known, **self._predicted(setting), "caution": "; ".join(cautions)}
                found = told, known_profile(self.model_terms, self._sample.followed(setting))
                if plain:
                    alike[key] = found
                yield found
            else:
                yield alike[key]

    def _predicted_rows(self, data: Any) -> pd.DataFrame | None:
        """Predict for the rows of a table that has all columns of the model; None if it lacks some that can be averaged over."""
        if isinstance(data, Study):
            refuse_in_parts(
                [data[n].values for n in data.columns],
                "one table of predictions",
                "predict for it part by part",
            )
        names = set(data.columns if isinstance(data, Study) else dict(columns_of(data)))
        lacking = [v.name for v in variables_of(self.model_terms).values() if not _can_be_had(v.column, names)]
        if lacking and not isinstance(data, Study) and len(lacking) < len(variables_of(self.model_terms)):
            return None
        rows = new_rows(self, data)
        given = (
            {}
            if isinstance(data, Study)
            else {c: v for c, v in columns_of(data) if c in variables_of(self.model_terms)}
        )
        outside, predicted = len(rows.told), self._of_rows(rows)
        first = pd.DataFrame({**head_of(self, rows), **{c: v.to_numpy() for c, v in given.items()}}, index=rows.index)
        caution = pd.Series(rows.cautions if outside else "", index=rows.index, name="caution")
        told = pd.concat([first, predicted, caution], axis=1)
        if outside:
            where = next(iter(rows.told.values()))
            remark(
                f"{count_noun(outside, 'row')} of {len(told):,} {'has' if outside == 1 else 'have'} a gap or {'lies' if outside == 1 else 'lie'} outside "
                f"the data ({where}{', among others' if outside > 1 else ''}); the column of cautions says which."
            )
        return told

    @abstractmethod
    def _of_rows(self, rows: NewRows) -> pd.DataFrame:
        """Return the columns of a prediction for each row."""

    def _back(self, table: pd.DataFrame, named: NDArray[np.bool_]) -> pd.DataFrame:
        """Add predictions in the unit of what a logged outcome was made of; smeared where the profile names every column."""
        made = self.outcome.made
        if made is None or made.how not in ("log", "log1p") or "predicted" not in table:
            raise MarkbaseError(
                f"Only a logged outcome is brought back to its own unit, and `{self.outcome.name}` is not the logarithm of anything."
            )
        less = 1.0 if made.how == "log1p" else 0.0
        back = np.exp(table[["predicted", "low", "high"]].to_numpy(dtype=np.float64))
        found = table.drop(columns="caution").assign(
            geometric_mean=back[:, 0] - less,
            geometric_low=back[:, 1] - less,
            geometric_high=back[:, 2] - less,
            # what is averaged over the rows, or taken out, spreads the outcome as well, and exp of an average knows nothing of it
            mean_smeared=np.where(named & (not self.fixed_effect_names), back[:, 0] * self._smear - less, np.nan),
        )
        return found.assign(caution=table["caution"])

    @cached_property
    def _smear(self) -> float:
        """The mean of the exponentials of the residuals."""
        inside = slice(None) if self.used is None else self.used
        heavy = self.weights.values[inside] if self.weights else None
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
        observed = (self.outcome.values == 1).astype(np.float64) if self.outcome.is_categorical else self.outcome.values
        return pd.Series(observed - self._fitted, index=self.index, name="residual")

    def _refuse_each_row(self, what: str) -> None:
        refuse_in_parts(self.outcome.values, what, "predict for the study part by part")

    @property
    @abstractmethod
    def _fitted(self) -> Array:
        """What the model gives for each row, shape (rows,)."""

    @abstractmethod
    def _predicted(self, setting: Setting) -> dict[str, float]:
        """Return a prediction at a setting, with its intervals."""


def _can_be_had(column: Column, names: set[str]) -> bool:
    """Return whether a table has a column, or all it was made of."""
    if column.name in names:
        return True
    made = column.made
    return made is not None and can_follow(made) and all(_can_be_had(source, names) for source in made.sources)
