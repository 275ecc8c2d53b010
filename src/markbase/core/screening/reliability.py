"""Whether the items of a scale go together well enough to be averaged: reliability as internal consistency."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd
import scipy.special as sp
from numpy.typing import NDArray

from markbase.core.arguments import checked
from markbase.core.design.complete_cases import CompleteCases, complete_rows
from markbase.core.display import ShownTables
from markbase.core.errors import ColumnError, FitError, MarkbaseError, listed, quoted
from markbase.core.formatting import as_percent, number, without_zero
from markbase.core.inference.distributions import t_quantile
from markbase.core.rows.row_functions import evenly_spread
from markbase.core.screening.association import ROWS_LOOKED_AT, interval_of_r, stretch_of_z
from markbase.core.screening.one_factor import OneFactor, one_factor
from markbase.core.screening.unheeded import unheeded_in, unheeded_words
from markbase.core.study.column import Column
from markbase.core.study.consistency import Consistency, consistency_of
from markbase.core.study.frames import AnyTable
from markbase.core.study.imputed import remark_on_stacked
from markbase.core.study.study import Study, as_study
from markbase.core.study.transformations import check_numeric
from markbase.core.tables import own_table

Array = NDArray[np.float64]

_UNLIKE = 2.0
"""A standard deviation that is more times another is spoken of."""
_WORTH_TELLING = 0.01
"""By so much alpha of the other items is higher before it is spoken of."""
_OFTEN = 0.02
"""Such a share of rows with one answer to items that are worded both ways is told."""
_MUCH_LEFT, _CLEARLY = 0.1, 3.0
"""A correlation that one factor leaves is told from such a size on, and where it is so many times what rows leave by chance."""
_MOST_APART = 10
"""Answers further apart are no steps of a scale."""


@dataclass(frozen=True, eq=False, repr=False)
class Reliability(ShownTables):
    """How far the items of a scale go together, on the rows that have all of them."""

    consistency: Consistency
    """Their means and covariances."""
    sample: CompleteCases
    """The rows."""
    level: float
    """The confidence level."""
    data_name: str
    """What the data are called."""
    stretches: tuple[float, ...]
    """By how much further alpha, and each item's correlation with the others, vary over samples of rows than those of normal items would, at least 1."""
    wordings: Mapping[str, str]
    """What the codebook says of items it has."""
    unheeded: tuple[str, ...] = ()
    """Columns with the role of clusters, strata or weights, of which these figures take no account, each with what it holds."""
    mend: tuple[Mapping[str, Any], ...] = ()
    """Steps that turn round what goes against the others, where all answers are few whole numbers: the lowest becomes the highest."""
    factor: OneFactor | None = None
    """One common factor of the items; None of two, or where it explains an item all but wholly."""
    omega_error: float = math.nan
    """The standard error of log(1 − omega) in these rows, whatever the distribution."""
    same_answers: float = 0.0
    """The share of rows that give the same answer to every item, where some go against the others."""

    @property
    def items(self) -> tuple[str, ...]:
        """The names of the items."""
        return self.consistency.names

    @property
    def alpha(self) -> float:
        """Cronbach's alpha, the raw one: of the items as they are; NaN where their sum does not vary."""
        return self.consistency.alpha

    @property
    def interval(self) -> tuple[float, float]:
        """Its confidence interval: that of F (Feldt 1965), exact where items are normal, vary alike and go together alike.

        Where rows move alpha further than those of normal items would (skewed answers, a few extreme ones), it is so many times as wide on the
        scale of log(1 − alpha), on which it hardly depends on alpha.
        """
        n, k = self.sample.used, len(self.items)
        tail, left = (1 - self.level) / 2, 1 - self.alpha
        ends = [1 - left * float(sp.fdtri(n - 1, (n - 1) * (k - 1), p)) ** self.stretches[0] for p in (1 - tail, tail)]
        return ends[0], ends[1]

    @property
    def omega(self) -> float:
        """McDonald's omega (total): the share of the variance of their sum that one common factor has, (Σλ)²/((Σλ)² + Σψ); NaN where there is none.

        With loadings λ and unique variances ψ by maximum likelihood; items need not go with the factor alike, as for alpha.
        """
        return math.nan if self.factor is None else self.factor.omega

    @property
    def omega_interval(self) -> tuple[float, float]:
        """Its confidence interval, even in log(1 − omega), by how far rows move it whatever their distribution (Yuan & Bentler 2002)."""
        reach = t_quantile(self.level, self.sample.used - 1) * self.omega_error
        return 1 - (1 - self.omega) * math.exp(reach), 1 - (1 - self.omega) * math.exp(-reach)

    @property
    def mean_r(self) -> float:
        """The mean of the correlations of every two items."""
        return float(self.consistency.correlations[np.triu_indices(len(self.items), 1)].mean())

    @property
    def standardised_alpha(self) -> float:
        """Alpha of the items in standard deviations: what their number and their mean correlation give (Spearman and Brown)."""
        return _stepped_up(self.mean_r, len(self.items))

    @property
    def components(self) -> tuple[float, ...]:
        """The shares of the variance of the standardised items that the principal components hold, the largest first."""
        return tuple((np.linalg.eigvalsh(self.consistency.correlations)[::-1] / len(self.items)).tolist())

    @own_table
    def table(self) -> pd.DataFrame:
        """One row an item.

        `item`, `mean`, `sd`, `rest_r` (its correlation with the sum of the others: the corrected item-total correlation), `rest_low`,
        `rest_high` (its interval, by Fisher's z, wider where rows move it further than those of normal items would), `alpha_without` (alpha of the others; NaN of two items),
        `loading` (its correlation with one common factor; NaN where there is none).
        """
        own = self.consistency
        told = zip(own.with_rest.tolist(), self.stretches[1:], strict=True)
        ends = [interval_of_r(r, own.rows, self.level, stretch) for r, stretch in told]
        return pd.DataFrame(
            {
                "item": list(own.names),
                "mean": own.means,
                "sd": np.sqrt(np.diag(own.covariance)),
                "rest_r": own.with_rest,
                "rest_low": [low for low, _ in ends],
                "rest_high": [high for _, high in ends],
                "alpha_without": own.without_each,
                "loading": np.full(len(own.names), np.nan)
                if self.factor is None
                else self.factor.loadings / np.sqrt(np.diag(own.covariance)),
            }
        )

    @own_table
    def correlations(self) -> pd.DataFrame:
        """Pearson's r of every two items, a square table with their names as labels."""
        return pd.DataFrame(self.consistency.correlations, index=list(self.items), columns=list(self.items))

    @property
    def statements(self) -> tuple[str, ...]:
        """What the figures say, and what they do not, in sentences."""
        told = []
        if self.consistency.against:
            told.append(
                f"{self.consistency.against_words}; alpha and omega are those of the items as they are, and mean little before."
            )
            told += self._straight()
        else:
            told += [*self._dispensable(), *self._by_number()]
        told += self._unlike()
        if len(self.items) > 2:
            first, second = (as_percent(v) for v in self.components[:2])
            told += self._beyond_one_factor()
            told.append(
                f"{'Alpha does not show' if self.factor is None else 'Neither alpha nor omega shows'} that the items measure one thing: of the variance of the standardised items the first principal "
                f"component holds {first}, the second {second}."
            )
        if self.unheeded:
            told.append(unheeded_words(self.unheeded, "Rows are taken for independent and count alike"))
        told.append(
            "It is reliability in these rows, and only where the items err independently; among people who are more alike it is lower."
        )
        return tuple(told)

    def _straight(self) -> list[str]:
        """Say that rows give the same answer to items that are worded both ways."""
        if self.same_answers < _OFTEN:
            return []
        return [
            f"{as_percent(self.same_answers)} of the rows give the same answer to all {len(self.items)} items, those that go against the others among them (straightlining): a "
            "middle answer alone can mean both, so look whether these were read."
        ]

    def _beyond_one_factor(self) -> list[str]:
        """Say which two items go together beyond one factor, and where there is none."""
        if self.factor is None:
            return ["One common factor would leave an item without a variance of its own, so that there is no omega."]
        left = self.factor.left
        one, other = divmod(int(np.abs(left).argmax()), len(self.items))
        r = float(left[one, other])
        if abs(r) < _MUCH_LEFT or abs(r) * math.sqrt(self.sample.used) < _CLEARLY:
            return []
        way = "share more than that" if r > 0 else "have less in common than it says"
        return [
            f"One factor leaves a correlation of {without_zero(r, 2)} between `{self.items[one]}` and `{self.items[other]}`, which {way}: alpha and omega take the items for such as err independently."
        ]

    def _unlike(self) -> list[str]:
        """Say where an item varies far more than another."""
        sd = self.table["sd"].to_numpy()
        most, least = int(sd.argmax()), int(sd.argmin())
        if not sd[most] > _UNLIKE * sd[least]:
            return []
        return [
            f"`{self.items[most]}` varies {number(sd[most] / sd[least], 1)} times as much as `{self.items[least]}`, and weighs as much more in their sum and "
            "mean; in standard deviations (z) they would count alike."
        ]

    def _by_number(self) -> list[str]:
        """Say what the number of items has to do with it."""
        k, r = len(self.items), without_zero(self.mean_r, 2)
        if not self.mean_r > 0:
            return [
                f"On average the items do not go together (mean correlation {r}): their sum says little of what they share."
            ]
        own, twice = (without_zero(_stepped_up(self.mean_r, n), 2) for n in (k, 2 * k))
        if k == 2:
            return [
                f"Of two items all that can be said is their correlation, {r}; the sum of both has {own} (Spearman and Brown)."
            ]
        return [
            f"Alpha grows with the number of items: {k} that correlate at {r} on average have {own}, {2 * k} would have {twice}."
        ]

    def _dispensable(self) -> list[str]:
        """Name the item without which alpha would be highest, if it would be higher."""
        table = self.table
        most = float(table["alpha_without"].max())
        if not most > self.alpha + _WORTH_TELLING:
            return []
        name = table["item"].tolist()[int(np.nanargmax(table["alpha_without"]))]
        return [
            f"Without `{name}` alpha would be {without_zero(most, 2)}: a reason to read its wording again; dropped because of "
            "these rows alone, it makes alpha look better than it will be in others."
        ]

    @property
    def _brief(self) -> str:
        return f"{len(self.items)} items, alpha {without_zero(self.alpha, 2)}"


def _stepped_up(r: float, items: int) -> float:
    """Return the reliability of the sum of items that all correlate alike (Spearman 1910, Brown 1910, British Journal of Psychology 3)."""
    return items * r / (1 + (items - 1) * r) if 1 + (items - 1) * r > 0 else math.nan


@checked
def reliability(study: Study | AnyTable, items: Sequence[str], *, level: float = 0.95) -> Reliability:
    """Tell how far the items of a scale go together, before they are averaged: Cronbach's alpha, McDonald's omega, and the part of each item.

    Parameters
    ----------
    study : Study, or a table
        The data; a table (pandas, Polars, Arrow, DuckDB) is taken as a study without a codebook.
    items : sequence of str
        Numeric columns, two or more, all worded the same way round.
    level : float
        The confidence level of the interval of alpha.

    Returns
    -------
    Reliability
        `alpha` and its `interval`, `omega` and its `omega_interval`, `standardised_alpha`, `mean_r`, `components`, `table` (a row an item), `correlations`, and
        `statements`; print it to read it.

    Raises
    ------
    ColumnError
        If there is no such column, it is categorical or an identifier, or holds infinite values.
    FitError
        If fewer than three rows have every item, or an item does not vary in them.
    MarkbaseError
        If an item is named twice, there are fewer than two, or the level is not between 0 and 1.

    References
    ----------
    L. J. Cronbach (1951), "Coefficient alpha and the internal structure of tests", Psychometrika 16, 297-334.
    L. S. Feldt (1965), "The approximate sampling distribution of Kuder-Richardson reliability coefficient twenty",
    Psychometrika 30, 357-370.
    R. P. McDonald (1999), Test Theory: A Unified Treatment, ch. 6 (omega).
    Yuan, Guarnaccia & Hayslip (2003), "A study of the distribution of sample coefficient alpha with the Hopkins symptom checklist",
    Educational and Psychological Measurement 63(1), 5-23 (how alpha varies, whatever the distribution).

    Examples
    --------
    >>> import markbase as mb
    >>> found = mb.reliability(mb.demo.choir_items(), ["welcome", "friends", "heard", "part_of_it"])
    >>> round(found.alpha, 2)
    0.84
    """
    study = as_study(study)
    remark_on_stacked(study[name] for name in study.columns)
    if len(items) < 2:
        raise MarkbaseError(
            f"A scale has two items or more, and there is {f'`{items[0]}` alone' if items else 'none'}."
        )
    if len(set(items)) < len(items):
        twice = next(n for n in items if list(items).count(n) > 1)
        raise MarkbaseError(f"The item `{twice}` is given twice.")
    if isinstance(level, bool) or not 0 < level < 1:
        raise MarkbaseError(f"The confidence level is {level!r}; it lies between 0 and 1, for instance 0.95.")
    columns = [study.column(n) for n in items]
    for column in columns:
        if column.role == "identifier":
            raise ColumnError(f"`{column.name}` is an identifier and no item.")
        check_numeric(column, "reliability")
    used, sample = complete_rows(columns)
    found = consistency_of(columns)
    if found is None:
        raise FitError(f"Only {sample.used} of {sample.rows:,} rows have every item; alpha needs three or more.")
    if found.fixed:
        one = len(found.fixed) == 1
        raise FitError(
            f"{listed(quoted(found.fixed))} {'does' if one else 'do'} not vary in the rows that have every item, so {'it goes' if one else 'they go'} "
            f"with nothing; leave {'it' if one else 'them'} out."
        )
    wordings = {c.name: c.label for c in columns if c.label}
    (answers,) = evenly_spread(ROWS_LOOKED_AT, sample.used, used, [c.values for c in columns])
    turning, own = _turning(columns, found.against), np.array(answers)
    factor = one_factor(found.covariance)
    same = float(np.mean(np.ptp(own, axis=0) == 0)) if turning and len(columns) > 2 else 0.0
    return Reliability(
        found,
        sample,
        level,
        study.name,
        _stretches(own),
        wordings,
        unheeded_in(study, items),
        turning,
        factor,
        math.nan if factor is None else factor.error(own) / math.sqrt(sample.used),
        same,
    )


def _stretches(answers: Array) -> tuple[float, ...]:
    """Return what `Reliability.stretches` says, of answers of shape (items, rows).

    A row moves log(1 − alpha) by k/(k − 1)·(t − wT/W)/W/(1 − alpha), with t the sum of its squared deviations, w the square of their sum, and T and W the
    means of these; of normal items with one variance and one correlation the mean square of that is 2k/(k − 1).
    """
    away = answers - answers.mean(axis=1, keepdims=True)
    away -= away.mean(axis=1, keepdims=True)  # again, since far from 0 the first is rounded
    away /= np.abs(away).max() or 1.0
    whole, factor = away.sum(axis=0), len(away) / (len(away) - 1)
    own, summed = (away**2).sum(axis=0), whole**2
    T, W = float(own.mean()), float(summed.mean())
    left, stretch = 1 - factor * (1 - T / W) if W > 0 else 0.0, 1.0
    if left > 0:
        moved = factor * (own - summed * T / W) / W / left
        stretch = max(1.0, math.sqrt(float(np.mean(moved**2)) / (2 * factor)))
    return (stretch, *(stretch_of_z(item, whole - item, None) for item in away))


def _turning(columns: Sequence[Column], against: Iterable[str]) -> tuple[Mapping[str, Any], ...]:
    """Return a step for each item to turn round, from the lowest to the highest answer of any; none where they are not few whole numbers."""
    answers = [c.few_whole for c in columns]
    if not all(answers):
        return ()
    low, high = int(min(map(min, answers))), int(max(map(max, answers)))
    if high - low > _MOST_APART:
        return ()
    scores = {value: low + high - value for value in range(low, high + 1)}
    return tuple({"do": "as_numeric", "column": name, "scores": scores} for name in against)
