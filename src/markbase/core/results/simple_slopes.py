"""Probing curves and interactions: slopes at chosen values and within levels.

References
----------
Aiken & West (1991), Multiple Regression: Testing and Interpreting Interactions, ch. 2-5.
Cohen, Cohen, West & Aiken (2003), Applied Multiple Regression/Correlation Analysis for the Behavioral Sciences, 3rd ed.,
ch. 6-7 and 9, doi:10.4324/9780203774441.
"""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.design.mean_columns import derivative_along
from markbase.core.design.terms import variables_of
from markbase.core.errors import FitError
from markbase.core.results.compared_pairs import pairs_table
from markbase.core.results.estimates import Estimated
from markbase.core.results.fit_statistics import OverallTest
from markbase.core.results.held_values import Places, chosen_values, held_at
from markbase.core.results.turning_points import TurningPoint, clear_region_of, turning_point_of, turning_points_of
from markbase.core.study.derived_values import changing_with
from markbase.core.tables import name_beside

Array = NDArray[np.float64]
SLOPE_FIGURES = frozenset(
    ("base", "difference", "difference_high", "difference_low", "difference_p", "high", "level", "low", "n", "odds_high", "odds_low", "odds_ratio", "p",
     "probability_difference", "probability_difference_high", "probability_difference_low", "probability_difference_p", "probability_high",
     "probability_low", "probability_slope", "se", "slope")
)  # fmt: skip
"""What the other columns of a table of simple slopes are called than those that are held."""


@dataclass(frozen=True, eq=False, repr=False)
class Probed(Estimated):
    """An estimated regression whose curves and interactions can be probed."""

    def moves_with(self, numeric: str) -> list[str]:
        """Return the other columns of the model that were derived from a numeric column, and move when it does."""
        everything = slice(None)
        return [
            v.name
            for v in self._derived
            if v.name != numeric and derivative_along(v.column, numeric, {}, everything) is not None
        ]

    def slope_depends_on(self, numeric: str) -> list[str]:
        """Return the columns by which the slope of a numeric column differs.

        Parameters
        ----------
        numeric : str
            A numeric column of the model.

        Returns
        -------
        list of str
            Those it is in an interaction with, and itself where it has a curve; empty if its slope is the same everywhere.
        """
        followers = self.moves_with(numeric)
        names: list[str] = []
        for term in self.model_terms:
            for name, degree in zip(term.names, term.degrees, strict=True):
                if name == numeric and degree > 1:
                    names.append(numeric)
            if numeric in term.names or any(f in term.names for f in followers):
                names += [n for n in term.names if n not in (numeric, *followers)]
        for name in followers:
            made = variables_of(self.model_terms)[name].column.made
            if made is not None:
                names += [n for n in changing_with(made, numeric) if n in variables_of(self.model_terms)]
        return list(dict.fromkeys(names))

    def slope_at(self, numeric: str, at: Mapping[str, float | str | Array] | None = None) -> tuple[float, float]:
        """Return the slope of a numeric column where some variables are held, and its standard error.

        Parameters
        ----------
        numeric : str
            The column.
        at : mapping, optional
            Values of numeric columns, itself included; of a group a level, or the shares of its levels. What is not named is
            averaged over the rows used.

        Returns
        -------
        slope, se : float
            In units of the linear predictor per unit of the column; columns derived from it move with it.

        Raises
        ------
        ColumnError
            If the model has no such column.
        LevelError
            If a group has no such level in the rows used.
        FitError
            If the slope would be that of a combination of levels that no row used has.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_linear(study, "belonging", ["age", "voice", mb.interaction("age", "voice")])
        >>> slope, se = fit.slope_at("age", {"voice": "tenor"})
        >>> round(slope, 2), round(se, 2)
        (0.24, 0.05)
        """
        if not self.moves_with(numeric):
            self.variable(numeric, "numeric")
        with np.errstate(invalid="ignore"):  # what is steep without bound in some row has no average
            wide = self._sample.slope(numeric, {name: held_at(self, name, value) for name, value in (at or {}).items()})
            estimate, root = self._wide(wide, False)
            return estimate, float(self.inner.se(root[None, :])[0])

    def simple_slopes(self, numeric: str, *, by: str | None = None, at: Places | None = None) -> pd.DataFrame:
        """Tell the slope of a numeric column where others are held: simple slopes of an interaction or a curve.

        Parameters
        ----------
        numeric : str
            A numeric column of the model.
        by : str, optional
            The moderator: a group (a row for each of its levels) or a numeric column (a row for each chosen value).
        at : mapping of str to number or sequence of numbers, optional
            Chosen values of numeric columns, the column itself included where it has a curve; by default its mean and a
            standard deviation below and above, inside the rows used. What is not named is averaged over the rows used.

        Returns
        -------
        pandas.DataFrame
            A row for each combination: `level` and `base` and `n` for a group, a column for each numeric column that is held (called
            ``low (column)`` where it has the name of a figure of the table, such as ``low``);
            then `slope`, `se`, `low`, `high`, `p`; of a group also the `difference` from the slope at its base with
            `difference_low`, `difference_high`, `difference_p`. In a logistic model slopes are of log odds, with `odds_ratio`
            (per unit), `odds_low`, `odds_high`, and `probability_slope` with its interval: what the probability rises per unit, averaged
            over the rows (of a column of two values the difference between them); of a group also `probability_difference`, its difference
            from that at the base, with its interval and p (delta method).

        Raises
        ------
        ColumnError
            If the model has no such column.
        FitError
            If nothing in the model lets the slope differ by `by`, or it would be averaged over a combination of levels that no row used has.

        Warns
        -----
        MarkbaseWarning
            For values outside the rows used.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_linear(study, "belonging", ["age", "voice", mb.interaction("age", "voice")])
        >>> fit.simple_slopes("age", by="voice").iloc[:, :4].round(2)
             level   base    n  slope
        0  soprano  False  653   0.26
        1     alto   True  674   0.20
        2    tenor  False  244   0.24
        3     bass  False  346   0.21
        """
        with np.errstate(invalid="ignore"):  # what is steep without bound in some row has no average
            return self._slopes_at(numeric, by, at)

    def _slopes_at(self, numeric: str, by: str | None, at: Places | None) -> pd.DataFrame:
        self.variable(numeric, "numeric")
        variables = variables_of(self.model_terms)
        group = variables[by] if by is not None and by in variables and variables[by].is_categorical else None
        if by is not None and group is None:
            self.variable(by, "numeric")
        depends = self.slope_depends_on(numeric)
        if by is not None and by not in depends:
            raise FitError(
                f"Nothing in the model lets the slope of `{numeric}` differ by `{by}`: add the interaction of the two to its terms."
            )
        chosen = chosen_values(self, at)
        held = [
            n
            for n in (by, numeric)
            if n is not None and n in depends and n not in chosen and n != (group.name if group else "")
        ]
        values = {**{n: self.rows_used.middle_and_around(n) for n in held}, **chosen}
        records: list[dict[str, Any]] = []
        settings: list[dict[str, float | Array]] = []
        for place in itertools.product(*values.values()):
            setting: dict[str, float | Array] = dict(zip(values, place, strict=True))
            for level in range(group.size) if group else [None]:
                here = dict(setting)
                record: dict[str, Any] = {}
                if group is not None and level is not None:
                    here[group.name] = np.eye(group.size)[level]
                    record = {"level": group.labels[level], "base": level == group.base}
                    record["n"] = int(self.rows_used.counts_at((group.name,))[level])
                records.append({**record, **{name_beside(SLOPE_FIGURES, n): v for n, v in setting.items()}})
                settings.append(here)
        rows = self._sample.slopes(numeric, settings)
        table = pd.DataFrame(records, index=range(len(records)))
        found = pairs_table(self, [("", "")] * len(rows), rows, "none", 2)
        found["se"] = found["se"].where(np.isfinite(found["difference"]))
        table = table.assign(slope=found["difference"], **{k: found[k] for k in ("se", "low", "high", "p")})
        table = self.family.with_ratios(table, "slope")
        if group is not None:
            size = group.size
            anchor = rows.reshape(-1, size, rows.shape[1])[:, group.base]
            other = pairs_table(self, [("", "")] * len(rows), rows - np.repeat(anchor, size, axis=0), "none", 2)
            base = table["base"].to_numpy()
            for name, source in (("difference", "difference"), ("difference_low", "low"), ("difference_high", "high")):
                table[name] = np.where(base, 0.0, other[source])
            table["difference_p"] = np.where(base, np.nan, other["p"])
        return self._with_probability_slopes(table, numeric, settings)

    def _with_probability_slopes(
        self, table: pd.DataFrame, numeric: str, settings: Sequence[Mapping[str, float | Array]]
    ) -> pd.DataFrame:
        """Add what a probability rises per unit, in a logistic model."""
        del numeric, settings
        return table

    def bend_test(self, numeric: str) -> OverallTest:
        """Test the bend of a polynomial alone: that all powers above the first are 0.

        Parameters
        ----------
        numeric : str
            A numeric column with a polynomial.

        Returns
        -------
        OverallTest
            F, or Wald's chi-squared in a logistic model.

        Raises
        ------
        FitError
            If the model has no polynomial of that column.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_linear(study, "belonging", ["voice", mb.polynomial("age")])
        >>> fit.bend_test("age").df
        1
        """
        term = next((t for t in self.model_terms if t.kind == "polynomial" and t.names == (numeric,)), None)
        if term is None:
            raise FitError(f"The model has no polynomial of `{numeric}`; add one to its terms.")
        higher = [s for c, s in zip(term.components, self.term_tests.columns_of(term), strict=True) if c.degree > 1]
        columns = np.concatenate([np.arange(s.start, s.stop) for s in higher])
        chosen = np.eye(len(self.solution.columns))[np.isin(self.solution.columns, columns)]
        return self._as_overall(self.inner.joint(chosen))

    def turning_points(self, numeric: str, *, by: str | None = None) -> pd.DataFrame:
        """Find where the curve of a numeric column turns: where its slope is 0.

        Parameters
        ----------
        numeric : str
            A numeric column with a polynomial, or whose square is in the model.
        by : str, optional
            A group by which the curve differs: a row or more for each of its levels.

        Returns
        -------
        pandas.DataFrame
            A row a turning point: `level` (empty without `by`), `value`, `kind` (``maximum`` or ``minimum``), `se`, `low`,
            `high` (delta method), `fieller_low`, `fieller_high`, `inside`. Empty where the fitted curve does not turn. Curves that are no
            polynomials, such as a logarithm beside its source, are looked at within the rows used alone; where a hinge has its corner the
            place is not estimated, and its error 0.

        Raises
        ------
        FitError
            If the model has no curve of that column.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_linear(study, "belonging", ["voice", mb.polynomial("age")])
        >>> len(fit.turning_points("age"))
        1
        """
        return turning_points_of(self, numeric, by, self.slope_depends_on(numeric))

    def turning_point(self, numeric: str) -> TurningPoint:
        """Find the one place where a curve turns, with its interval by the delta method and by Fieller's theorem.

        Parameters
        ----------
        numeric : str
            A numeric column with a polynomial of degree 2, or whose square is in the model.

        Returns
        -------
        TurningPoint
            `value`, `kind`, `low`, `high`, `fieller_low`, `fieller_high`, `inside`; print it.

        Raises
        ------
        FitError
            If the model has no curve of that column, or one that does not turn, or turns twice.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_linear(study, "belonging", ["voice", mb.polynomial("age")])
        >>> turn = fit.turning_point("age")
        >>> turn.kind in ("minimum", "maximum")
        True
        """
        return turning_point_of(self, numeric, self.turning_points(numeric))

    def clear_region(self, numeric: str, by: str) -> pd.DataFrame:
        """Find where, along a numeric moderator, the slope of a numeric column is clear (Johnson & Neyman).

        Parameters
        ----------
        numeric : str
            The column whose slope is told.
        by : str
            A numeric column that moderates it.

        Returns
        -------
        pandas.DataFrame
            The stretches of the moderator inside the rows used, a row each: `from`, `to`, `clear` (whether the interval of
            the slope excludes 0), `slope_from`, `slope_to`, `rows` (rows used in the stretch, each as often as a frequency weight
            says; missing of a saved fit, which holds none).

        Raises
        ------
        FitError
            If the slope does not differ by that column.

        Notes
        -----
        The bounds are those of single intervals at the fit's confidence level, not of a band for all places together.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_linear(study, "belonging", ["age", "rehearsals", mb.interaction("age", "rehearsals")])
        >>> list(fit.clear_region("age", "rehearsals").columns)
        ['from', 'to', 'clear', 'slope_from', 'slope_to', 'rows']
        """
        self.variable(by, "numeric")
        if by not in self.slope_depends_on(numeric):
            raise FitError(
                f"Nothing in the model lets the slope of `{numeric}` differ by `{by}`; add their interaction to the terms."
            )
        return clear_region_of(self, numeric, by)
