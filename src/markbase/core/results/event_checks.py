"""What is checked of a logistic fit: how well it tells the event from the rest, and whether its probabilities are what happens."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

import pandas as pd

from markbase.core.results.probabilities import Probabilities
from markbase.core.results.readers import readers

if TYPE_CHECKING:
    from markbase.core.diagnostics.calibration_test import CalibrationTest
    from markbase.core.diagnostics.classification import Classification
    from markbase.core.diagnostics.log_odds import LogisticChecks


@dataclass(frozen=True, eq=False, repr=False, kw_only=True)
class EventChecks(Probabilities):
    """A logistic regression, estimated, whose probabilities are held against what happened."""

    def classification(self, cut: float = 0.5, *, folds: int | None = None, seed: int = 0) -> Classification:
        """Sort the rows by whether their probability reaches a cut, held against guessing.

        Parameters
        ----------
        cut : float
            From which probability the event is predicted.
        folds : int, optional
            Also sort rows the model has not seen: the rows are put at random into so many parts, and each part is
            predicted by a fit to the others. Cases that rows count for, by frequencies, are put there one by one.
        seed : int
            The seed of the random order.

        Returns
        -------
        Classification
            `table`, `correct` beside `guess` (always the commoner level), `sensitivity`, `specificity`, `area` with its
            interval (`allows_for` says for which clusters or strata), and `held_out`: all of it on the rows held out. Without `folds` it is of the rows the model was
            fitted to, and better than it will be for others.

        Raises
        ------
        MarkbaseError
            If the cut or the number of parts cannot be used.
        FitError
            If the model cannot be fitted without one of the parts, or cases that are to be held out come in parts, or are more than 2,000,000.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_logistic(study, "stays", ["age", "voice"], event="yes")
        >>> round(fit.classification().area, 2)
        0.58
        """
        return readers().classification(self, cut, folds, seed)

    @cached_property
    def _bends(self) -> pd.DataFrame:
        return readers().bends(self)

    @cached_property
    def _bent(self) -> Mapping[str, Any]:
        return readers().bent(self)

    def checks(self, *, most: int = 10, order: Any = None) -> LogisticChecks:
        """Check the fit: straight lines in the log odds, calibration, cases, serial order, and clusters that a result hangs on.

        Parameters
        ----------
        most : int
            How many cases to list, those that weigh most.
        order : Column or array_like, shape (rows,), optional
            What puts the rows of the study in order, as for a linear fit; raises as its checks.

        Returns
        -------
        LogisticChecks
            Each figure with what it means here and what would do; print it, or take its `findings`. How well the fit tells people
            apart is in `classification` and `calibration`.

        Notes
        -----
        A line is tested by the square of the column, added to the model: by the likelihood ratio, or with errors of other kinds by
        Wald's test (Weisberg 2005, Applied Linear Regression, section 8.2).

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_logistic(study, "stays", ["age", "voice"], event="yes")
        >>> fit.checks().lines[["term", "p", "bend"]].round(2)
          term     p    bend
        0  age  0.95  upward
        """
        return readers().logistic_checks(self, most, order)

    def calibration(self, parts: int = 10) -> pd.DataFrame:
        """Compare predicted probabilities with observed shares, in parts of rising probability.

        Parameters
        ----------
        parts : int
            Into how many parts of about equal size the rows are put.

        Returns
        -------
        pandas.DataFrame
            `part`, `n`, `lowest`, `highest`, `predicted` (mean), `observed` (share) with `low` and `high` (Wilson;
            they allow for clusters, strata and sampling weights of the fit).

        Raises
        ------
        MarkbaseError
            If there are fewer than two parts, or more than 1,000.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_logistic(study, "stays", ["age", "voice"], event="yes")
        >>> fit.calibration().shape[0]
        10
        """
        return readers().calibration(self, parts)

    def calibration_test(self, parts: int = 10) -> CalibrationTest:
        """Test whether predicted probabilities are what happens (goodness of fit, after Hosmer and Lemeshow).

        Parameters
        ----------
        parts : int
            Into how many parts of rising probability the rows are put. Where the values of the terms have five combinations a
            part at most, and five rows or more each, these are taken one by one instead (Pearson's chi-squared).

        Returns
        -------
        CalibrationTest
            `statistic`, `df` and `p`, and which of the two it is. With clusters, strata, sampling weights or a penalty there is no
            test; `untested` says why.

        Raises
        ------
        MarkbaseError
            If there are fewer than two parts, or more than 1,000.

        Notes
        -----
        The sum of (O − E)²/(E(1 − E/n)) over the parts, O of the n rows of one with the event and E expected: chi-squared on the parts
        less 2 (Hosmer & Lemeshow 1980, doi:10.1080/03610928008827941), or on the combinations less the coefficients. With few rows it
        misses much, and with very many it finds what does not matter: `calibration` says by how much.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_logistic(study, "stays", ["age", "voice"], event="yes")
        >>> test = fit.calibration_test()
        >>> test.of, test.df, round(test.p, 2)
        ('parts', 8, 0.2)
        """
        return readers().calibration_test(self, parts)

    def cases(self, most: int | None = 10, *, by: str = "influence") -> pd.DataFrame:
        """List the cases that weigh most, or fit worst.

        Parameters
        ----------
        most : int or None
            How many; None for all.
        by : str
            ``influence`` (what leaving a case out would move, Pregibon's one-step distance) or ``residual``.

        Returns
        -------
        pandas.DataFrame
            The identifier of the data, then `observed`, `probability`, `residual` (Pearson's, standardised),
            `leverage`, `influence`, the largest first; without rows that decide a coefficient alone, which have no residual.

        Raises
        ------
        MarkbaseError
            If there is nothing to list by that name.

        References
        ----------
        Pregibon (1981), Annals of Statistics 9(4), 705-724, doi:10.1214/aos/1176345513.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_logistic(study, "stays", ["age", "voice"], event="yes")
        >>> list(fit.cases().columns)[:4]
        ['singer_id', 'observed', 'probability', 'residual']
        """
        return readers().cases(self, most, by)
