"""The coefficients of a fit in samples drawn out of its rows (bootstrap): their bias, standard errors and intervals without a formula.

References
----------
Efron (1987), Journal of the American Statistical Association 82(397), 171-185, doi:10.1080/01621459.1987.10478410 (accelerated).
Efron & Tibshirani (1993), An Introduction to the Bootstrap, ch. 14, doi:10.1201/9780429246593.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np
import pandas as pd
import scipy.linalg
from numpy.typing import NDArray

from markbase.core.arguments import checked
from markbase.core.checks.clusters_left_out import scored_rows_of
from markbase.core.comparison.bootstrap import Climbs, corrected_ends, drawn_words, found_in_samples
from markbase.core.design.moments import Moments
from markbase.core.display import ShownTables
from markbase.core.errors import NoRowsError, count_noun, listed, quoted
from markbase.core.inference.clustered_errors import cluster_sums
from markbase.core.inference.standard_errors import ALONE, ScoredRows
from markbase.core.results.changes import AnyFit
from markbase.core.results.coefficient_rows import label_of
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.results.stored_fit import StoredFit
from markbase.core.rows.sums import totals_of
from markbase.core.tables import rows_of

Array = NDArray[np.float64]
_NOTHING = 1e-12
_ENOUGH = 1000
"""With fewer samples than this their outer percentiles are a matter of the seed."""
_MANY_CLUSTERS = 100
"""As so many clusters of equal size they are to count before samples of them are taken as they are."""
_FEW_ROWS = 50
"""With fewer rows than this samples are too much like one another."""


@dataclass(frozen=True, eq=False, repr=False)
class CoefficientSamples(ShownTables):
    """The coefficients of a fit in samples drawn out of its rows."""

    fit: AnyFit
    """The fit."""
    table: pd.DataFrame
    """A row a coefficient, as in the fit: `term`, `level`, `against`, `base`, `estimate`, `bias` (the mean of the samples less the estimate), `se`
    (the standard deviation of the samples), `low`, `high` (accelerated, bias-corrected ends), `fit_se`, `fit_low`, `fit_high` (what
    the fit says by its errors); of a logistic fit in log odds, with `odds_ratio`, `odds_low`, `odds_high`, `odds_fit_low` and `odds_fit_high` beside."""
    samples: pd.DataFrame
    """A row a sample, a column a coefficient, as ``term`` or ``term: level``."""
    draws: int
    """Samples drawn."""
    failed: int
    """Of these, samples in which the model could not be fitted; they are left out."""
    seed: int
    """The seed of the random numbers."""

    @property
    def words(self) -> str:
        """How the samples were made, in a few words."""
        left = (
            f" ({self.failed:,} left out: a level had no row, or the model could not be fitted)" if self.failed else ""
        )
        return f"{self.draws:,}, of {drawn_words(self.fit)} drawn with replacement{left}, seed {self.seed}"

    @property
    def statements(self) -> tuple[str, ...]:
        """Where samples and errors tell different things, and what samples cannot do, in sentences."""
        told = [f"{what}: {self._named(which)}." for what, which in self._turned() if which]
        if not told:
            told.append(
                f"Intervals of the samples and of the errors agree on which coefficients are clear of {self._none}."
            )
        if self.draws < _ENOUGH:
            told.append(f"With {self.draws:,} samples the ends are rough; {_ENOUGH:,} or more settle them.")
        clusters, alike = self.fit.errors.clusters, self.fit.possible_cluster
        if alike is not None:
            told.append(
                f"Rows are drawn one by one, as if they were independent. Those of one `{alike.name}` may go together: cluster the errors by it, and "
                f"its levels are drawn whole."
            )
        if 0 < self.fit.errors.even_clusters < _MANY_CLUSTERS:
            told.append(
                f"Samples are of {clusters:,} clusters. Where clusters are few, or uneven in size, such intervals are too narrow, more so than "
                f"those of the usual clustered errors (CR1); errors from leaving out one cluster at a time (CR3) hold better."
            )
        elif not clusters and self.fit.sample.used < _FEW_ROWS:
            told.append(
                f"Samples of only {count_noun(self.fit.sample.used, 'row')} are much alike, so these intervals may be too narrow."
            )
        told.append(
            "No sample holds what these rows lack: this allows for odd shapes of the errors, not for rows that were never drawn."
        )
        return tuple(told)

    def _turned(self) -> tuple[tuple[str, list[str]], tuple[str, list[str]]]:
        own: list[str] = []
        others: list[str] = []
        for row in rows_of(self.table[~self.table["base"] & self.table["se"].notna()]):
            here, there = row.low > 0 or row.high < 0, row.fit_low > 0 or row.fit_high < 0
            if here != there and not np.isnan(row.fit_low):
                (own if here else others).append(label_of(row.term, row.level))
        lead, none = "By the interval of the samples", self._none
        return (
            (f"{lead} clear of {none}, by that of the errors not", own),
            (f"{lead} not clear of {none}, by that of the errors it is", others),
        )

    @property
    def _none(self) -> str:
        """What stands for no association: an odds ratio of 1, a coefficient of 0."""
        return "1" if self.fit.family.ratios else "0"

    @staticmethod
    def _named(names: list[str]) -> str:
        return listed(quoted(names))

    @property
    def _brief(self) -> str:
        return f"{count_noun(len(self.samples), 'sample')} of {self.samples.shape[1]} coefficients"


@checked
def bootstrap(
    fit: AnyFit, draws: int = 1000, *, seed: int = 0, told: Callable[[int], None] | None = None
) -> CoefficientSamples:
    """Fit a model to samples drawn out of its rows, and tell how its coefficients spread over them.

    Rows are drawn with replacement, of clustered errors whole clusters, within strata where there are some; rows with frequency weights stand for
    as many cases, and with sampling weights each keeps its own. Ends are percentiles of the samples, corrected for bias and accelerated
    (BCa), at ``Φ(z₀ + (z₀ ± z)/(1 − a(z₀ ± z)))`` with z₀ from the share of samples below the estimate, and a a sixth of the skewness of
    what each row, or cluster, moves the estimate by.

    Parameters
    ----------
    fit : LinearFit or LogisticFit
        The fit.
    draws : int
        How many samples, at least 100; for 95% intervals a thousand or more.
    seed : int
        The seed of the random numbers: the same one gives the same samples.
    told : callable, optional
        Told now and then how many samples are done.

    Returns
    -------
    CoefficientSamples
        `table`, `samples` and `statements`; print it to read it.

    Raises
    ------
    MarkbaseError
        If there are too few draws, or the seed is below 0; or if rows come in parts, and single rows would be drawn, or a likelihood climbed in each sample.
    FitError
        If levels are taken out, errors are clustered two ways or robust to serial correlation, likelihood is penalised, the fit was saved without its rows, or too many samples cannot be fitted.

    References
    ----------
    Efron (1987), doi:10.1080/01621459.1987.10478410.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> fit = mb.fit_linear(study, "belonging", ["age", "voice"])
    >>> found = mb.bootstrap(fit, 200, seed=1)
    >>> found.table[["term", "level", "estimate"]].round(2).head(2)
              term level  estimate
    0  (intercept)           49.50
    1          age            0.23
    """
    if isinstance(fit, StoredFit):
        raise NoRowsError("A saved fit has no rows to draw samples of; fit the model again.")
    of_products = _of_products(fit) if isinstance(fit, LinearFit) else _nothing
    of_weights = _of_weights(fit) if isinstance(fit, LogisticFit) else _nothing
    found, failed = found_in_samples(fit, draws, seed, of_products, of_weights, told)
    own, known = fit.coefficients, fit.coefficient_map.known
    estimates = own["estimate"].to_numpy(dtype=np.float64)
    samples, pull = np.where(known, np.array(found), np.nan), accelerations(fit)
    ends = [
        corrected_ends(samples[:, k], estimates[k], fit.level, pull[k]) if known[k] else (np.nan, np.nan)
        for k in range(len(estimates))
    ]
    table = own[["term", "level", "against", "base", "estimate"]].assign(
        bias=samples.mean(axis=0) - estimates,
        se=samples.std(axis=0, ddof=1),
        low=[low for low, _ in ends],
        high=[high for _, high in ends],
        fit_se=own["se"],
        fit_low=own["low"],
        fit_high=own["high"],
    )
    names = [label_of(r.term, r.level) for r in rows_of(own)]
    table = fit.family.with_ratios(table)
    if fit.family.ratios:
        with np.errstate(over="ignore"):  # what is beyond all numbers is infinite
            table = table.assign(odds_fit_low=np.exp(table["fit_low"]), odds_fit_high=np.exp(table["fit_high"]))
    return CoefficientSamples(fit, table, pd.DataFrame(samples, columns=names), draws, failed, seed)


def _nothing(_: Moments | Array) -> None:
    return None


def _of_products(fit: LinearFit) -> Callable[[Moments], Array | None]:
    """Return what gives the coefficients by the cross-products of a sample, None where a level has no row in it or nothing can be solved."""
    told, columns = fit.coefficient_map, fit.solution.columns
    centres = np.repeat(fit.moments.centres, fit.moments.sizes)[columns]

    def take(moments: Moments) -> Array | None:
        cross, sums = moments.cross, moments.cross[0]
        at = np.append(columns, len(cross) - 1)
        centred = cross[np.ix_(at, at)] - np.outer(sums[at], sums[at]) / moments.weight
        if not np.all(np.diag(centred) > _NOTHING * np.diag(cross)[at]):
            return None
        lengths = np.sqrt(np.diag(centred))
        unit = centred / np.outer(lengths, lengths)
        _, solved, trouble = scipy.linalg.lapack.dposv(unit[:-1, :-1], unit[:-1, -1], lower=1)
        if trouble:
            return None
        scale = np.repeat(moments.scales, moments.sizes)[at]
        means = sums[at] / moments.weight * scale + np.repeat(moments.centres, moments.sizes)[at]
        slopes = solved * (lengths[-1] * scale[-1]) / (lengths * scale)[:-1]
        return np.asarray(told.chooser @ slopes + told.starts * (means[-1] - slopes @ (means[:-1] - centres)))

    return take


def _of_weights(fit: LogisticFit) -> Callable[[Array], Array | None]:
    """Return what gives the coefficients of a logistic fit in a sample, None where a level has no row in it or there is no maximum."""
    told = fit.coefficient_map
    climbs = Climbs(fit)

    def take(weights: Array) -> Array | None:
        best = climbs.maximum(weights)
        if best is None or not best.whole:
            return None
        return np.asarray(told.chooser @ best.coefficients[1:] + told.starts * best.coefficients[0])

    return take


def accelerations(fit: AnyFit) -> Array:
    """Return a sixth of the skewness of what leaving out each row, or cluster, moves each coefficient by, shape (coefficients,).

    Of a linear fit exactly what it would move without a row; of clusters, and of a logistic fit, to the first order.
    """
    roots, over = fit.coefficient_rows.roots, scored_rows_of(fit, fit.cluster)
    if fit.cluster is not None:
        sums = cluster_sums(over, fit.cluster, roots.shape[1] - 1)
        return _sixth(*_powers(sums.scores[sums.rows > 0] @ roots.T, np.ones(np.count_nonzero(sums.rows))))

    def moved(rows: Iterator[ScoredRows]) -> tuple[Array, Array, Array, Array]:
        found = (np.zeros(()), *np.zeros((3, len(roots))))
        for _, Q, score, leverage, _, times in rows:
            room = 1 - leverage
            room[room < ALONE] = np.inf  # a row that alone decides a coefficient has no residual
            often = np.ones(len(Q)) if times is None else times
            found = tuple(
                a + b for a, b in zip(found, _powers(Q @ roots.T * (score / room)[:, None], often), strict=True)
            )
        return found

    return _sixth(*totals_of(over(moved)))


def _powers(moves: Array, often: Array) -> tuple[Array, Array, Array, Array]:
    """Return how many movements there are, and the sums of their first three powers, shape (coefficients,) each."""
    return often.sum(), *(often @ moves**k for k in (1, 2, 3))


def _sixth(count: Array, first: Array, second: Array, third: Array) -> Array:
    mean = first / count
    squares, cubes = second - mean * first, third - 3 * mean * second + 2 * mean**2 * first
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(squares > 0, cubes / (6 * np.maximum(squares, 0) ** 1.5), 0.0)
