"""A fit that predicts, and writes its equation: for profiles (values of some columns of its model, those not named averaged over the rows) and for rows.

References
----------
Duan (1983), Journal of the American Statistical Association 78(383), 605-610, doi:10.1080/01621459.1983.10478017 (smearing).
"""

from __future__ import annotations

import math
from abc import abstractmethod
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any, overload

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.arguments import told_value
from markbase.core.design.coefficient_map import components_of
from markbase.core.design.mean_columns import NoSuchRowsError, Setting
from markbase.core.design.terms import Term, variables_of
from markbase.core.errors import ColumnError, LevelError, MarkbaseError, count_noun, remark
from markbase.core.formatting import decimals_for
from markbase.core.inference.marginal_effects import known_profile
from markbase.core.results.estimates import Estimated
from markbase.core.results.new_rows import PREDICTION_FIGURES, NewRows, head_of, new_rows
from markbase.core.results.outcome_ends import NO_ENDS, Ends, passing_words
from markbase.core.results.prediction_coverage import Held, coverage_words
from markbase.core.results.profile_sources import columns_that_tell, in_columns_of_the_model
from markbase.core.results.readers import readers
from markbase.core.rows.parts import in_parts
from markbase.core.rows.row_functions import look_up, refuse_in_parts
from markbase.core.study.column import Column
from markbase.core.study.derived_values import can_follow
from markbase.core.study.frames import columns_of
from markbase.core.study.study import Study
from markbase.core.tables import name_beside

if TYPE_CHECKING:
    from markbase.core.results.statements import Equation, Lines

Array = NDArray[np.float64]
Profiles = Mapping[str, Any] | Sequence[Mapping[str, Any]] | Study | Any
"""Whom predictions are for: a profile, several, or the rows of a table."""


_AT_ONCE, _MOST_AT_ONCE, _VALUES = 16, 256, 1 << 22
"""So many profiles are predicted for together where rows are in parts; at most so many in memory, and so many values of rows."""
_NO_NUMBERS = (np.array(np.nan), np.array(np.nan), 0.0, None, None)
"""What a family makes predictions of, where there are none."""


@dataclass(frozen=True, eq=False, repr=False)
class Predicting(Estimated):
    """A regression, estimated, that predicts and writes its equation. Nothing here needs the rows it was fitted to."""

    def predict(self, profiles: Profiles, *, back_transformed: bool = False) -> pd.DataFrame:
        """Predict for some profiles, or for every row of a table.

        Parameters
        ----------
        profiles : mapping, sequence of mapping, Study or table
            Values of columns of the model, or of those they were derived from: one profile (a row of a table too), several, or a table (pandas, Polars,
            PyArrow, a study) with a row a case.
            A column that is not given is as in the sample: the prediction is averaged over the rows used. Columns that were
            derived from others follow them.
        back_transformed : bool
            For a logged outcome: also its geometric mean in the unit it was made of (`geometric_mean`, `geometric_low`,
            `geometric_high`), and the mean by Duan's smearing (`mean_smeared`; NaN of a saved fit, which has no residuals, where a profile
            leaves a column to the average over the rows, and with fixed effects).

        Returns
        -------
        pandas.DataFrame
            The values given (of a table also its identifier, and `observed` where it has the outcome; one whose column is called as a figure
            here, such as ``low``, is ``low (column)``),
            then for a linear model `predicted`, `se`, `low`, `high` (the mean of all such people) and `one_low`, `one_high`
            (one such person: with the spread of the residuals, and of what the profile does not name); for a logistic model
            `probability`, `low`, `high`, `log_odds`, `se`. `residual` where the outcome is known. `caution` says where a row has
            a gap, or levels of an interaction that no row used has together, which give no prediction and no stop, or lies outside the data.

        Raises
        ------
        ColumnError
            If a column is not in the model, and none of the model was derived from it.
        LevelError
            If a level is not in the rows the model was fitted to.
        MarkbaseError
            If a value is missing or no number.

        Warns
        -----
        MarkbaseWarning
            For profiles outside the data, for those that cannot be predicted, where clearly more or fewer of the rows used than should lie outside their
            intervals for one, or most of them on one side, and where predictions or intervals pass an end of the outcome: 0 where no row used is below it, or a
            lowest or highest value that several have.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_linear(study, "belonging", ["age", "voice"])
        >>> fit.predict({"voice": "tenor", "age": 30})[["predicted", "low", "high"]].round(1)
           predicted   low  high
        0       60.4  58.7  62.0
        """
        if isinstance(profiles, (Mapping, pd.Series)):  # a row of a table, too
            profiles = [dict(profiles)]
        if isinstance(profiles, (str, bytes, np.ndarray)) or not hasattr(profiles, "__len__"):
            raise MarkbaseError(
                f"Predictions are for profiles or for the rows of a table, not for {told_value(profiles)}."
            )
        if isinstance(profiles, (list, tuple)) and not all(isinstance(p, (Mapping, pd.Series)) for p in profiles):
            raise MarkbaseError(
                f"A profile is a table of columns and values, such as {{'age': 30}}, not {told_value(profiles)}."
            )
        if not isinstance(profiles, (list, tuple)):
            table = _of_table(self, profiles)
            if table is not None:
                self._remark_on_all(table)
                return _back(self, table, np.ones(len(table), dtype=bool)) if back_transformed else table
            columns = dict(columns_of(profiles))
            inside = [c for c in columns if c in columns_that_tell(variables_of(self.model_terms), set(columns))]
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
        told = _each(self, rows)
        found, named = [row for row, _ in told], [complete for _, complete in told]
        cautions = {
            none: [r["caution"] for r in found if r["caution"] and math.isnan(r[self.family.predicted]) == none]
            for none in (True, False)
        }
        if untold := cautions[True]:
            remark(f"{count_noun(len(untold), 'profile')} cannot be predicted ({untold[0]}).")
        if outside := cautions[False]:
            remark(
                f"{count_noun(len(outside), 'profile')} {'lies' if len(outside) == 1 else 'lie'} outside the data ({outside[0]}"
                f"{', among others' if len(outside) > 1 else ''}): the prediction there rests on the form of the model alone."
            )
        table = pd.DataFrame(found)
        self._remark_on_all(table)
        return _back(self, table, np.array(named)) if back_transformed else table

    def _cautions_for_all(self, table: pd.DataFrame) -> list[str]:
        """Say of predictions whether the intervals for one are too narrow or too wide there, or off to one side, and where they pass an end of the outcome, in clauses."""
        told = []
        if "one_low" in table:
            predicted, se = (table[name].to_numpy(dtype=np.float64) for name in ("predicted", "se"))
            decimals = decimals_for(float(np.nanmin(se, initial=np.inf)))
            told = [coverage_words(self._held, self.level, predicted, decimals)]
        return [words for words in (*told, *passing_words(self._ends, self.outcome.name, self.level, table)) if words]

    def _remark_on_all(self, table: pd.DataFrame) -> None:
        for words in self._cautions_for_all(table):
            remark(f"{words[0].upper()}{words[1:]}.")

    @property
    def _held(self) -> Sequence[Held]:
        """How many rows used lie outside their intervals for one, by fitted value; nothing where no such intervals are told."""
        return ()

    def _averages_levels(self, group: str) -> bool:
        """Return whether adjusted means, or probabilities, of a group can be told: those of a saved logistic fit are averages over rows that it has not."""
        del group
        return True

    @property
    def _ends(self) -> Ends:
        """The ends of a numeric outcome in the rows used."""
        return NO_ENDS

    @property
    def _passing(self) -> tuple[float, float]:
        """The shares of rows used with fitted values below and above the ends of the outcome."""
        return 0.0, 0.0

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
                if len(component.groups) > 1 and component.names in self._sample.lacking:
                    effects[:-1][self._sample.lacking[component.names][1].ravel()] = np.nan
                found = found + look_up(effects, block.codes[chosen]) * values
        predictor: Array = found
        return predictor

    def _expected_of(self, columns: Mapping[str, Column]) -> Array:
        """Return what the model gives for each row of other columns with the levels of its own, shape (rows,); NaN for a gap or an unseen level."""
        own = {n: replace(v, column=columns[n]) for n, v in variables_of(self.model_terms).items()}
        there = replace(self, model_terms=tuple(t.with_variables(own) for t in self.model_terms))
        return self.family.expected(there._predictor_at(None))

    @abstractmethod
    def _of_rows(self, rows: NewRows) -> pd.DataFrame:
        """Return the columns of a prediction for each row."""

    @property
    @abstractmethod
    def _smear(self) -> float:
        """The mean of the exponentials of the residuals; NaN where it is not known."""

    @abstractmethod
    def _predicted(self, settings: Sequence[Setting]) -> dict[str, Array]:
        """Return predictions at some settings, with their intervals, as columns; raises `NoSuchRowsError` where one rests on what no row has."""

    @abstractmethod
    def _unseen(self, setting: Setting) -> list[str]:
        """Name combinations of levels that no row used has."""

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


def _each(fit: Predicting, rows: Sequence[Mapping[str, Any]]) -> list[tuple[dict[str, Any], bool]]:
    """Predict for profiles, those alike once; return what is told of each, and whether it leaves nothing to an average over the rows."""
    places: dict[tuple[tuple[str, Any], ...] | int, int] = {}
    asked: list[tuple[Mapping[str, Any], dict[str, float | Array], list[str]]] = []
    order = []
    for number, known in enumerate(rows, 1):
        plain = all(isinstance(v, (str, int, float)) for v in known.values())
        key = tuple(known.items()) if plain else number
        if key not in places:
            try:
                setting, cautions = _setting_of(fit, known)
            except MarkbaseError as problem:
                where = f"Profile {number}: " if len(rows) > 1 else ""
                raise type(problem)(f"{where}{problem}") from None
            places[key] = len(asked)
            asked.append((known, setting, cautions + fit._unseen(setting)))
        order.append(places[key])
    found = []
    numbers = _numbers_at(fit, [setting for _, setting, _ in asked])
    for (known, setting, cautions), (told, untold) in zip(asked, numbers, strict=True):
        own = {name_beside(PREDICTION_FIGURES, name): value for name, value in known.items()}
        row = {**own, **told, "caution": "; ".join([*cautions, *([untold] if untold else [])])}
        found.append((row, known_profile(fit.model_terms, fit._sample.followed(setting))))
    return [found[place] for place in order]


def _numbers_at(fit: Predicting, settings: Sequence[Setting]) -> Iterator[tuple[dict[str, float], str]]:
    """Yield the prediction at each setting, and why there is none, as a clause: several are made together, as each may be a pass over the rows."""
    rows, at_once = fit.sample.used, _AT_ONCE
    if not in_parts([v.column.values for v in variables_of(fit.model_terms).values()]):
        at_once = min(max(_VALUES // max(rows, 1), 1), _MOST_AT_ONCE)
    for start in range(0, len(settings), at_once):
        some = settings[start : start + at_once]
        try:
            yield from ((own, "") for own in _as_rows(fit._predicted(some)))
        except NoSuchRowsError:
            for setting in some:
                try:
                    yield next(_as_rows(fit._predicted([setting]))), ""
                except NoSuchRowsError as problem:
                    none = fit.family.predictions(*_NO_NUMBERS)
                    yield {k: float(v) for k, v in none.items()}, problem.told


def _as_rows(columns: Mapping[str, Array]) -> Iterator[dict[str, float]]:
    for values in zip(*(own.tolist() for own in columns.values()), strict=True):
        yield dict(zip(columns, values, strict=True))


def _setting_of(fit: Predicting, known: Mapping[str, Any]) -> tuple[dict[str, float | Array], list[str]]:
    """Turn named values into a setting, with what must be remarked on."""
    setting: dict[str, float | Array] = {}
    cautions: list[str] = []
    variables = variables_of(fit.model_terms)
    for name, value in in_columns_of_the_model(variables, known).items():
        term = variables[name]
        if isinstance(value, (list, tuple, np.ndarray, pd.Series)):
            raise MarkbaseError(
                f"A profile has one value of `{name}`, not {told_value(value)}: for several, give a list of profiles, or a table with a row each."
            )
        if pd.isna(value) or value == "":
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
        low, high, _ = fit.rows_used.spread(name)
        if not low <= number <= high:
            cautions.append(f"`{name}` = {number:g} lies outside the rows used ({low:g} to {high:g})")
        setting[name] = number
    return setting, cautions


def _of_table(fit: Predicting, data: Any) -> pd.DataFrame | None:
    """Predict for the rows of a table that has all columns of the model; None if it lacks some that can be averaged over."""
    if isinstance(data, Study):
        refuse_in_parts(
            [data[n].values for n in data.columns],
            "one table of predictions",
            "predict for it part by part",
        )
    names = set(data.columns if isinstance(data, Study) else dict(columns_of(data)))
    lacking = [v.name for v in variables_of(fit.model_terms).values() if not _can_be_had(v.column, names)]
    if lacking and not isinstance(data, Study) and len(lacking) < len(variables_of(fit.model_terms)):
        return None
    rows = new_rows(fit, data)
    used = columns_that_tell(variables_of(fit.model_terms), names)
    given = {} if isinstance(data, Study) else {c: v for c, v in columns_of(data) if c in used}
    outside, predicted = len(rows.told), fit._of_rows(rows)
    own = {name_beside(PREDICTION_FIGURES, c): v.to_numpy() for c, v in given.items()}
    first = pd.DataFrame({**head_of(fit, rows), **own}, index=rows.index)
    caution = pd.Series(rows.cautions if outside else "", index=rows.index, name="caution")
    told = pd.concat([first, predicted, caution], axis=1)
    if outside:
        where = next(iter(rows.told.values()))
        remark(
            f"{count_noun(outside, 'row')} of {len(told):,} {'has' if outside == 1 else 'have'} a gap or {'lies' if outside == 1 else 'lie'} outside "
            f"the data ({where}{', among others' if outside > 1 else ''}); the column of cautions says which."
        )
    return told


def _can_be_had(column: Column, names: set[str]) -> bool:
    """Return whether a table has a column, or all it was made of."""
    if column.name in names:
        return True
    made = column.made
    return made is not None and can_follow(made) and all(_can_be_had(source, names) for source in made.sources)


def _back(fit: Predicting, table: pd.DataFrame, named: NDArray[np.bool_]) -> pd.DataFrame:
    """Bring predictions back, smeared where the profile names every column."""
    if "predicted" not in table or fit.outcome.made is None:
        return brought_back(fit, table, np.full(len(table), np.nan))
    less = 1.0 if fit.outcome.made.how == "log1p" else 0.0
    back = np.exp(table["predicted"].to_numpy(dtype=np.float64))
    # what is averaged over the rows, or taken out, spreads the outcome as well, and exp of an average knows nothing of it
    return brought_back(fit, table, np.where(named & (not fit.fixed_effect_names), back * fit._smear - less, np.nan))


def brought_back(fit: Predicting, table: pd.DataFrame, smeared: Array) -> pd.DataFrame:
    """Add predictions in the unit of what a logged outcome was made of, and their means as they are smeared."""
    made = fit.outcome.made
    if made is None or made.how not in ("log", "log1p") or "predicted" not in table:
        raise MarkbaseError(
            f"Only a logged outcome is brought back to its own unit, and `{fit.outcome.name}` is not the logarithm of anything."
        )
    less = 1.0 if made.how == "log1p" else 0.0
    back = np.exp(table[["predicted", "low", "high"]].to_numpy(dtype=np.float64))
    found = table.drop(columns="caution").assign(
        geometric_mean=back[:, 0] - less,
        geometric_low=back[:, 1] - less,
        geometric_high=back[:, 2] - less,
        mean_smeared=smeared,
    )
    return found.assign(caution=table["caution"])
