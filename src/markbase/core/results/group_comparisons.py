"""Reading the groups of a fit: means, differences, pairs, other bases, slopes within groups."""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.design.terms import Variable
from markbase.core.errors import FitError, MarkbaseError, near
from markbase.core.inference.corrections import OF_ALL_PAIRS, WITH_ONE_LEVEL
from markbase.core.results.cell_means import cell_means_of, simple_effects_of
from markbase.core.results.compared_pairs import check_pairs, pairs_table, planned_weights
from markbase.core.results.fit_statistics import OverallTest
from markbase.core.results.retelling import Retold

Array = NDArray[np.float64]


@dataclass(frozen=True, eq=False, repr=False)
class Grouped(Retold):
    """An estimated regression with its groups to be read."""

    def _setting(self, at: Mapping[str, float] | None) -> dict[str, float | Array]:
        for name in at or {}:
            self.variable(name, "numeric")
        return {name: float(value) for name, value in (at or {}).items()}

    def not_averaged(self, group: str) -> str:
        """Say why the levels of a group cannot be averaged over others, an interaction of which no row has some combinations; empty where they can."""
        for names, none in self._sample.lacking.values():
            if group not in names:
                continue
            others = (~none).any(axis=names.index(group), keepdims=True)  # whose levels some row has together
            if (none & others).any():
                return (
                    f"`{' × '.join(names)}` has combinations of levels that no row has, so the levels of `{group}` cannot be averaged "
                    f"over the others: read the rows of the coefficients, or merge levels."
                )
        return ""

    def _check_cells(self, group: Variable) -> None:
        """Refuse to average over combinations of levels that no row has."""
        if reason := self.not_averaged(group.name):
            raise FitError(reason)

    def _level_rows(self, term: Variable, at: Mapping[str, float] | None) -> Array:
        """Return the mean columns for each level of a group, shape (levels, columns)."""
        self._check_cells(term)
        setting = self._setting(at)
        every = np.eye(term.size)
        return self._sample.rows([{**setting, term.name: share} for share in every])

    def group_test(self, group: str, *, at: Mapping[str, float] | None = None) -> OverallTest:
        """Test the differences between the levels of a group that `groups` and `between` tell, all together.

        Parameters
        ----------
        group : str
            A group of the model.
        at : mapping of str to float, optional
            Where numeric columns are held; by default as in the sample.

        Returns
        -------
        OverallTest
            F on the levels less one, or Wald's chi-squared in a logistic model (of log odds). In a model in which the differences
            depend on other columns it is of the differences averaged over the rows, or at these values.

        Raises
        ------
        ColumnError
            If the model has no such group.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_linear(study, "belonging", ["age", "voice"])
        >>> round(fit.group_test("voice").statistic, 1)
        12.6
        """
        return self._as_overall(self.inner.joint(self._level_differences(group, at)))

    def _level_differences(self, group: str, at: Mapping[str, float] | None = None) -> Array:
        """Return the differences of the levels of a group from the first as combinations of the inner coefficients, shape (levels − 1, p)."""
        rows = self._level_rows(self.variable(group, "categorical"), at)
        return np.asarray((rows[1:] - rows[0])[:, self.solution.columns])

    def between(
        self,
        group: str,
        correction: str = "holm",
        *,
        against: object = None,
        at: Mapping[str, float] | None = None,
        margin: float | None = None,
    ) -> pd.DataFrame:
        """Compare every level of a group with every other, or with one of them.

        Parameters
        ----------
        group : str
            A group of the model.
        correction : str
            For the p values of all comparisons together: ``holm`` (the default), ``bonferroni``, ``scheffe`` (which holds for any
            other comparison of the levels as well), ``tukey`` (Tukey-Kramer: of all pairs; linear models with classical errors), ``dunnett``
            (of comparisons with one level, up to 100 of them: by their joint t, or normal, distribution), or ``none``; all these for any
            chance finding at all. ``benjamini-hochberg`` is for their share among what is clear (false discovery rate).
        against : object, optional
            The label or the code of a level that each of the others is compared with; by default every pair, and under ``dunnett`` the base.
        at : mapping of str to float, optional
            Where numeric columns are held; by default as in the sample.
        margin : float, optional
            The smallest difference that would matter, chosen before the data were seen, in units of the outcome, or of a logistic
            model an odds ratio above 1: which differences are smaller either way (equivalence), and which are larger?

        Returns
        -------
        pandas.DataFrame
            One row a pair: `level`, `against`, `difference` (of adjusted means; in a logistic model of log odds),
            `se`, `t` or `z`, `low`, `high`, `p` (each by itself), `p_corrected`. The intervals hold together, under ``holm``,
            ``benjamini-hochberg`` and ``none`` each by itself. A logistic model adds
            `odds_ratio`, `odds_low`, `odds_high`. A margin adds `inner_low`, `inner_high` (the interval at 1 − 2α, of which the margin has to lie
            outside), `p_smaller` (two one-sided tests), `p_larger`, both corrected, and `verdict`: ``smaller``, ``larger`` or ``open``.

        Raises
        ------
        ColumnError
            If the model has no such group.
        LevelError
            If the group has no such level in the rows used.
        MarkbaseError
            If there is no such correction, or it does not suit the model or the comparisons, or the margin is none, or there are more
            than 50,000 pairs.

        Notes
        -----
        Dunnett's correction is exact in linear models with classical errors, and else as good as the errors are for large samples
        (Hothorn, Bretz & Westfall 2008). Its p are right to 8 decimals where no other term is in the model, else to 6 with up
        to six levels, to 4 with up to thirty, and to 3 with more.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_linear(study, "belonging", ["age", "voice"])
        >>> fit.between("voice")[["level", "against", "difference", "low", "high"]].round(2)
           level  against  difference   low  high
        0   alto  soprano        1.37  0.04  2.70
        1  tenor  soprano        5.31  3.49  7.12
        2   bass  soprano        3.06  1.45  4.67
        3  tenor     alto        3.94  2.13  5.74
        4   bass     alto        1.69  0.09  3.29
        5   bass    tenor       -2.24 -4.27 -0.22
        >>> fit.between("voice", "dunnett")[["level", "against", "difference", "low", "high"]].round(2)
             level against  difference   low  high
        0  soprano    alto       -1.37 -2.97  0.24
        1    tenor    alto        3.94  1.75  6.12
        2     bass    alto        1.69 -0.24  3.63
        """
        term = self.variable(group, "categorical")
        rows = self._level_rows(term, at)
        if against is None and correction not in WITH_ONE_LEVEL:
            check_pairs(term)
            pairs = list(itertools.combinations(range(term.size), 2))
        else:
            one = term.base if against is None else self._slot_of(term, against)
            pairs = [(one, other) for other in range(term.size) if other != one]
            if correction in OF_ALL_PAIRS:
                raise MarkbaseError("Tukey-Kramer is for all pairs; comparisons with one level take `dunnett`.")
        combos = np.array([rows[b] - rows[a] for a, b in pairs])
        names = [(term.labels[b], term.labels[a]) for a, b in pairs]
        return pairs_table(self, names, combos, correction, term.size, margin)

    def between_grid(self, group: str, correction: str = "holm", show: str = "difference") -> pd.DataFrame:
        """Lay the pairs of a group out as a square table.

        Parameters
        ----------
        group : str
            A group of the model.
        correction : str
            As for `between`.
        show : str
            A column of `between`: ``difference``, ``p_corrected``, ``p``, ``se`` and so on.

        Returns
        -------
        pandas.DataFrame
            Levels by levels: the row's level compared with the column's.

        Raises
        ------
        MarkbaseError
            If `between` has no such column, or as it does.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_linear(study, "belonging", ["age", "voice"])
        >>> fit.between_grid("voice").round(1)
                 soprano  alto  tenor  bass
        soprano      NaN  -1.4   -5.3  -3.1
        alto         1.4   NaN   -3.9  -1.7
        tenor        5.3   3.9    NaN   2.2
        bass         3.1   1.7   -2.2   NaN
        """
        if correction in WITH_ONE_LEVEL:
            raise MarkbaseError(
                "Dunnett's correction is for comparisons with one level, and a grid has every pair: use `holm`."
            )
        table = self.between(group, correction)
        shown = [c for c in table.columns if c not in ("level", "against")]
        if show not in shown:
            raise MarkbaseError(f"There is nothing called {show!r} of a pair.{near(show, shown)}")
        labels = self.variable(group, "categorical").labels
        mirror = {"low": "high", "high": "low"}
        sign = -1.0 if show in ("difference", "t", "z", "low", "high") else 1.0
        there = table[show].to_numpy(dtype=np.float64)
        back = table[mirror.get(show, show)].to_numpy(dtype=np.float64)
        first, second = np.triu_indices(len(labels), 1)  # the pairs, in the order in which `between` tells them
        grid = np.full((len(labels), len(labels)), np.nan)
        grid[second, first] = there
        grid[first, second] = 1 / back if show == "odds_ratio" else sign * back
        return pd.DataFrame(grid, index=labels, columns=labels)

    def planned(
        self,
        group: str,
        comparisons: Mapping[str, Mapping[str, float]] | Sequence[str],
        correction: str = "none",
        *,
        at: Mapping[str, float] | None = None,
        margin: float | None = None,
    ) -> pd.DataFrame:
        """Make planned comparisons of the levels of a group.

        Parameters
        ----------
        group : str
            A group of the model.
        comparisons : mapping of str to mapping, or sequence of str
            For each comparison a name and the weights of the levels, which sum to 0; or levels, each compared
            with the mean of the others, counted once each.
        correction : str
            ``none`` (the default: planned before the data were seen), ``holm``, ``bonferroni``, ``benjamini-hochberg``, or ``scheffe``, which allows for
            comparisons that the data suggested.
        at : mapping of str to float, optional
            Where numeric columns are held; by default as in the sample.
        margin : float, optional
            As for `between`.

        Returns
        -------
        pandas.DataFrame
            As `between`; `level` is the name of the comparison, `against` the levels with negative weights.

        Raises
        ------
        ColumnError
            If the model has no such group.
        LevelError
            If it has no such level.
        FitError
            If weights do not sum to 0, or are all 0.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_linear(study, "belonging", ["age", "voice"])
        >>> low = {"low against high": {"tenor": 0.5, "bass": 0.5, "soprano": -0.5, "alto": -0.5}}
        >>> fit.planned("voice", low)["difference"].round(2).tolist()
        [3.5]
        """
        term = self.variable(group, "categorical")
        planned = planned_weights(term, comparisons)
        rows, names = self._level_rows(term, at), [(name, against) for name, against, _ in planned]
        combos = [weights @ rows for _, _, weights in planned]
        if correction in (*OF_ALL_PAIRS, *WITH_ONE_LEVEL):
            what = (
                "Tukey-Kramer is for all pairs"
                if correction in OF_ALL_PAIRS
                else "Dunnett's is for comparisons with one level"
            )
            raise MarkbaseError(
                f"{what}; planned comparisons take `holm`, `bonferroni`, `benjamini-hochberg`, `scheffe` or `none`."
            )
        return pairs_table(self, names, np.array(combos), correction, term.size, margin)

    def simple_effects(self, group: str, by: str) -> pd.DataFrame:
        """Test the differences between the levels of a group within each level of another (simple effects, simple main effects).

        Parameters
        ----------
        group : str
            A group of the model.
        by : str
            Another group of the model.

        Returns
        -------
        pandas.DataFrame
            A row a level of `by`: `within`, `of`, `df`, `statistic` (F, or Wald's chi-squared of log odds), `df_rest`, `p`, each by itself. Where no
            term has both groups there is one row, ``every level``; a level at which only one level of `group` has rows has NaN. They do not
            depend on the bases. Whether the effects differ is the test of the interaction.

        Raises
        ------
        ColumnError
            If the model has no such group.
        FitError
            If it would run over combinations of levels that no row has, with a third group of an interaction.
        MarkbaseError
            If the two are the same.

        Notes
        -----
        F = (Cb)ᵀ(CVCᵀ)⁻¹Cb/df, with a row of C for each difference of adjusted means from the first of them at that level of `by`, and V
        the covariance of the coefficients by the errors of the fit (Maxwell, Delaney & Kelley 2017, Designing Experiments and
        Analyzing Data, chapter 7).

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_linear(study, "belonging", ["voice", "stays", mb.interaction("voice", "stays")])
        >>> fit.simple_effects("voice", by="stays")[["within", "df", "statistic"]].round(1)
          within  df  statistic
        0     no   3        5.1
        1    yes   3        8.6
        """
        return simple_effects_of(self, group, by, self.group_test)

    def cell_means(self, first: str, second: str, *, correction: str = "holm") -> tuple[pd.DataFrame, pd.DataFrame]:
        """Tell the adjusted mean of every combination of two groups, and the pairs within each.

        Parameters
        ----------
        first, second : str
            Two groups of the model.
        correction : str
            Of all pairs of `first` within the levels of `second` together, and of the reverse together; ``tukey``, ``scheffe`` and
            ``dunnett`` (of the comparisons with the base) within each level.

        Returns
        -------
        means : pandas.DataFrame
            A row a combination with rows: both levels (columns named by the groups), `n`, `adjusted` (expected if all rows had
            both levels and were otherwise as they are), `se`, `low`, `high`; of a logistic model the share of the event, averaged
            over the rows, its `se` by the delta method and an interval even in log odds.
        pairs : pandas.DataFrame
            `within` (a level of one group), `of` (the other group), and as `between`. Where no term has both groups the pairs are
            the same within every level: each is told once, and `within` is ``every level``.

        Raises
        ------
        ColumnError
            If the model has no such group.
        FitError
            If a mean would run over combinations of levels that no row has, with a third group of an interaction.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_linear(study, "belonging", ["voice", "stays", "age"])
        >>> means, pairs = fit.cell_means("voice", "stays")
        >>> means[["voice", "stays", "adjusted"]].round(1)
             voice stays  adjusted
        0  soprano    no      53.8
        1  soprano   yes      62.1
        2     alto    no      54.8
        3     alto   yes      63.1
        4    tenor    no      58.7
        5    tenor   yes      67.0
        6     bass    no      56.2
        7     bass   yes      64.6
        """
        return cell_means_of(self, first, second, correction, self.between)
