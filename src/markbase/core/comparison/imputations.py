"""The same model in each of several imputations, or for each of several plausible values, and what they say combined.

References
----------
Rubin (1987), Multiple Imputation for Nonresponse in Surveys, doi:10.1002/9780470316696; others in `core/inference/imputation_rules`.
Mislevy (1991), Psychometrika 56(2), 177-196, doi:10.1007/BF02294457, for plausible values.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.comparison.combined_model import CombinedModel
from markbase.core.comparison.combined_predictions import combined_predictions
from markbase.core.comparison.combined_tests import joint_of_combinations
from markbase.core.comparison.imputation_sentences import make_imputation_reading
from markbase.core.errors import MarkbaseError, listed, quoted, without_remarks
from markbase.core.inference.corrections import STEP_BY_STEP
from markbase.core.inference.distributions import t_quantile
from markbase.core.inference.imputation_rules import Combined
from markbase.core.inference.marginal_effects import logit_interval
from markbase.core.inference.multiplicity import corrected
from markbase.core.reading.equation import combined_equation
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.fit_statistics import OverallTest
from markbase.core.results.predicting import Profiles, brought_back
from markbase.core.results.simple_slopes import SLOPE_FIGURES
from markbase.core.results.statements import Equation, Reading
from markbase.core.tables import own_name, records_of

Array = NDArray[np.float64]
CORRECTIONS = (*STEP_BY_STEP, "none")
"""Corrections that take p values whatever they are of."""


@dataclass(frozen=True, eq=False, repr=False)
class Imputations(CombinedModel):
    """One model, fitted in each imputation by itself, and what the fits say combined (Rubin's rules)."""

    def groups(self, group: str) -> pd.DataFrame:
        """Tell every level of a group: its rows, its adjusted mean or probability, its difference from the base, all combined.

        Parameters
        ----------
        group : str
            A group of the model.

        Returns
        -------
        pandas.DataFrame
            One row a level, the base among them: `level`, `base`, `n`, `plain` (what was observed, the mean over imputations), `adjusted` with `adjusted_low` and `adjusted_high`, `difference` from the base
            with `se`, `df`, `low`, `high` and `p` (NaN for the base). Of logistic fits both are probabilities.

        Raises
        ------
        ColumnError
            If the model has no such group.
        """
        tables = [fit.groups(group) for fit in self._curved]
        told = self._combined(tables, "difference").drop(columns=["missing_information", "simulation_error"])
        at = np.array([t["adjusted"] for t in tables])
        low, high = np.array([t["adjusted_low"] for t in tables]), np.array([t["adjusted_high"] for t in tables])
        half = np.array([[t_quantile(self.level, f.df_rest)] for f in self.fits.values()])
        if self.family.shares:  # intervals that are even in log odds
            with np.errstate(divide="ignore"):
                se = (np.log(high / (1 - high)) - np.log(low / (1 - low))) / (2 * half) * at * (1 - at)
        else:
            se = (high - low) / (2 * half)
        own = Combined.of(at, se, self._df)
        reach = own.half_widths(self.level)
        ends = [own.estimate - reach, own.estimate + reach]
        if self.family.shares:
            pairs = [logit_interval(v, 1.0, h) for v, h in zip(own.estimate, reach, strict=True)]
            ends = [np.array(each) for each in zip(*pairs, strict=True)]
        adjusted = {"adjusted": own.estimate, "adjusted_low": ends[0], "adjusted_high": ends[1]}
        beside = told[["difference", "se", "df", "low", "high", "p"]]
        plain = np.mean([t["plain"] for t in tables], axis=0)
        return pd.concat([told[["level", "base", "n"]].assign(plain=plain, **adjusted), beside], axis=1)

    def group_test(self, group: str) -> OverallTest:
        """Test the differences between the levels of a group that `groups` and `between` tell, all together.

        Parameters
        ----------
        group : str
            A group of the model.

        Returns
        -------
        OverallTest
            F on the levels less one; of logistic fits of log odds. In a model in which the differences depend on other columns it is of the differences
            averaged over the rows of each imputation.

        Raises
        ------
        ColumnError
            If the model has no such group.
        FitError
            If the levels cannot be averaged.
        """
        tests = [fit.inner.joint(fit._level_differences(group)) for fit in self.fits.values()]
        why = next((test.untested for test in tests if test.untested), "")
        rows = [fit._level_differences(group) for fit in self._curved]
        return self._as_overall(joint_of_combinations(self._curved, rows, tests[0].df, why))

    def between(self, group: str, correction: str = "holm") -> pd.DataFrame:
        """Compare every two levels of a group, combined.

        Parameters
        ----------
        group : str
            A group of the model.
        correction : str
            ``holm``, ``bonferroni``, ``benjamini-hochberg`` or ``none``.

        Returns
        -------
        pandas.DataFrame
            One row a pair: `level`, `against`, `difference` (of logistic fits in log odds, with `odds_ratio`, `odds_low`, `odds_high`), `se`, `t`, `df`,
            `low`, `high`, `p`, `p_corrected`.

        Raises
        ------
        ColumnError
            If the model has no such group.
        MarkbaseError
            If the correction is another one: Tukey's, Dunnett's and Scheffé's rest on the distribution of one fit.
        """
        if correction not in CORRECTIONS:
            raise MarkbaseError(
                f"Comparisons of combined estimates are corrected by {listed(quoted(sorted(CORRECTIONS)), 'or')}, which take p values whatever they are of, not by {correction!r}."
            )
        tables = [fit.between(group, "none").drop(columns="p_corrected") for fit in self._curved]
        level = 1 - (1 - self.level) / len(tables[0]) if correction == "bonferroni" else self.level
        told = self._combined(tables, "difference", level).drop(columns=["missing_information", "simulation_error"])
        table = told.assign(p_corrected=corrected(told["p"].to_numpy(), correction))
        return self.family.with_ratios(table, "difference")

    def simple_slopes(
        self, numeric: str, *, by: str | None = None, at: Mapping[str, Sequence[float]] | None = None
    ) -> pd.DataFrame:
        """Tell the slope of a numeric column where others are held, combined.

        Parameters
        ----------
        numeric : str
            A numeric column of the model.
        by : str, optional
            The moderator: a group, or a numeric column.
        at : mapping of str to sequence of float, optional
            Where numeric columns are held; by default, where the slope differs by them, at their mean and a standard deviation below and above, the means of these
            over the imputations.

        Returns
        -------
        pandas.DataFrame
            Where it is told, as `fit.simple_slopes` has it, with `slope`, `se`, `t`, `df`, `low`, `high`, `p`; of logistic fits in log odds, and as `odds_ratio`, `odds_low`,
            `odds_high`.

        Raises
        ------
        ColumnError
            If the model has no such column.
        FitError
            If nothing in the model lets the slope differ by `by`.
        MarkbaseError
            If a column has other numbers of values in some imputations, so that no places are common to all: give them.

        Examples
        --------
        >>> import markbase as mb
        >>> terms = ["age", "voice", mb.interaction("age", "voice")]
        >>> found = mb.fit_imputations(mb.demo.choir_imputed(), "belonging", terms, "imputation")
        >>> found.simple_slopes("age", by="voice")[["level", "slope", "se", "p"]].round(3)
             level  slope     se      p
        0  soprano  0.106  0.073  0.149
        1     alto  0.090  0.068  0.186
        2    tenor  0.277  0.132  0.037
        3     bass  0.267  0.127  0.040
        """
        tables = [fit.simple_slopes(numeric, by=by, at=at) for fit in self._curved]
        held = [str(c) for c in tables[0] if c not in SLOPE_FIGURES and not str(c).startswith("probability")]
        if apart := [c for c in held if any(not t[c].equals(tables[0][c]) for t in tables)]:
            places = {own_name(SLOPE_FIGURES, c): [t[c].unique() for t in tables] for c in apart}
            if uneven := [name for name, own in places.items() if len({len(v) for v in own}) > 1]:
                raise MarkbaseError(
                    f"{listed(quoted(uneven))} would be held at other numbers of places in some imputations: say at which values."
                )
            common = {name: np.mean(own, axis=0).tolist() for name, own in places.items()}
            return self.simple_slopes(numeric, by=by, at={**common, **(at or {})})
        wanted = [c for c in tables[0] if c in (*held, "level", "base", "n", "slope", "se")]
        told = self._combined([t[wanted] for t in tables], "slope")
        table = told.drop(columns=["missing_information", "simulation_error"])
        return self.family.with_ratios(table, "slope")

    def _average_slope(self, numeric: str) -> tuple[float, float, float]:
        """Return the slope of a numeric column averaged over the rows, combined, and the ends of its interval; of logistic fits in probability."""
        if self.family.shares:
            row = next(r for r in records_of(self.marginal) if r["term"] == numeric)
            return row["effect"], row["low"], row["high"]
        each = np.array([fit.slope_at(numeric) for fit in self.fits.values()])
        own = Combined.of(each[:, :1], each[:, 1:], self._df)
        value, half = float(own.estimate[0]), float(own.half_widths(self.level)[0])
        return value, value - half, value + half

    def predict(self, profiles: Profiles, *, back_transformed: bool = False) -> pd.DataFrame:
        """Predict for some profiles, or for every row of a table, combined.

        Parameters
        ----------
        profiles : mapping, sequence of mapping, Study or table
            As for the `predict` of a fit; what is not given is averaged over the rows of each imputation.
        back_transformed : bool
            For a logged outcome: also in the unit of what it was made of.

        Returns
        -------
        pandas.DataFrame
            As a fit returns it. What is combined is what the equation gives: of logistic fits log odds, which are then told as probabilities.

        Raises
        ------
        MarkbaseError
            As a fit raises it.

        Examples
        --------
        >>> import markbase as mb
        >>> found = mb.fit_imputations(mb.demo.choir_imputed(), "belonging", ["age", "voice"], "imputation")
        >>> found.predict({"voice": "tenor", "age": 30})[["predicted", "low", "high", "one_low", "one_high"]].round(1)
           predicted   low  high  one_low  one_high
        0       57.3  53.3  61.3     32.7      82.0
        """
        first, *others = self.fits.values()
        tables = [first.predict(profiles, back_transformed=back_transformed)]
        with without_remarks():  # those of the first stand for all
            tables += [fit.predict(profiles, back_transformed=back_transformed) for fit in others]
        found = combined_predictions([first, *others], tables, self._df, with_outcome=bool(self.by))
        if not back_transformed:
            return found
        smeared = np.mean([table["mean_smeared"] for table in tables], axis=0)
        return brought_back(self.fit, found, smeared)

    def equation(self) -> Equation:
        """Write the equation, complete, with the combined coefficients.

        Returns
        -------
        Equation
            As of a fit; print it, or take its `parts`.
        """
        table = self._combined([fit.equation_rows for fit in self._curved], "estimate")
        return combined_equation(self.fit, table["estimate"].to_numpy(), table["se"].to_numpy())

    def reading(self) -> Reading:
        """Say what the combined coefficients mean, and no more.

        Returns
        -------
        Reading
            A sentence for each numeric column, each group as a whole and each of its levels; then what must be known of how they were combined.
        """
        return make_imputation_reading(self)


def stands_for(made: AnyFit | Imputations) -> AnyFit:
    """Return the fit from which is taken what is the same in all imputations: their first; a fit stands for itself."""
    return made.fit if isinstance(made, Imputations) else made
