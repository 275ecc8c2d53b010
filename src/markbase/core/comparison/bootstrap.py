"""Samples drawn out of the rows themselves, and intervals from them for what a block adds.

References
----------
Efron & Tibshirani (1993), An Introduction to the Bootstrap, ch. 14 (bias-corrected and accelerated percentiles), doi:10.1201/9780429246593.
Field & Welsh (2007), Journal of the Royal Statistical Society B 69(3), 369-390, doi:10.1111/j.1467-9868.2007.00593.x (whole clusters).
Rao, Wu & Yue (1992), Survey Methodology 18(2), 209-217 (within strata).
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple, TypeVar

import numpy as np
import scipy.linalg
import scipy.special as sp
from numpy.typing import NDArray

from markbase.core.arguments import check_seed
from markbase.core.design.cluster_products import cluster_products
from markbase.core.design.cross_products import gather
from markbase.core.design.moments import Moments
from markbase.core.design.terms import CodedColumns
from markbase.core.errors import FitError, MarkbaseError, listed, quoted
from markbase.core.estimation.fixed_effects import numbered_levels
from markbase.core.estimation.laid_out_rows import LaidOutRows
from markbase.core.estimation.least_squares_solution import Dependent
from markbase.core.estimation.likelihood import Likelihood
from markbase.core.estimation.newton import maximise
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.rows.row_functions import refuse_in_parts

Array = NDArray[np.float64]
AnyFit = LinearFit | LogisticFit
T = TypeVar("T")
FEWEST_DRAWS = 100
_NOTHING = 1e-12
_MOST_FAILED = 0.1
_MOST_KEPT = 1 << 25
"""Not more numbers than this are kept of all clusters."""


@dataclass(frozen=True)
class Bootstrap:
    """Intervals of the changes of a blockwise entry, from samples drawn with replacement."""

    low: tuple[float, ...]
    """The lower end for each block."""
    high: tuple[float, ...]
    """The upper end."""
    draws: int
    """Samples drawn."""
    failed: int
    """Of these, samples in which a block could not be fitted; they are left out."""
    seed: int
    """The seed of the random numbers."""
    drawn: str
    """What was drawn: rows, or the clusters of a column."""

    @property
    def words(self) -> str:
        """How the intervals were made, in a few words."""
        left = f" ({self.failed:,} left out: a block could not be fitted)" if self.failed else ""
        return (
            f"of the change, from {self.draws:,} samples of {self.drawn} drawn with replacement{left}, bias-corrected, seed {self.seed}; "
            f"no sample can come below 0, so an end above 0 is no test"
        )


def bootstrap(fits: Sequence[AnyFit], draws: int, seed: int, told: Callable[[int], None] | None = None) -> Bootstrap:
    """Draw samples, at least 100, out of the rows of a blockwise entry and take the changes between its blocks in each.

    Rows are drawn, whole clusters where errors are clustered (of a linear fit from the cross-products of each cluster,
    which one pass takes, unless clusters or columns are very many); with frequency weights the cases they stand for, and
    with sampling weights each row keeps its own. Within strata of n one fewer is drawn, and counts n/(n − 1) times. With G the distribution of the changes of R² (or McFadden's) in the
    samples, the ends are its quantiles at ``Φ(2z₀ ± z)``, where ``z₀ = Φ⁻¹(G(change seen))``.

    Raises
    ------
    MarkbaseError
        If there are too few draws; or if rows come in parts, and single rows would be drawn, or a likelihood climbed in each sample.
    FitError
        If levels are taken out, errors are clustered two ways or robust to serial correlation, likelihood is penalised, or too many samples cannot be fitted.
    """
    shares, failed = sampled_shares(fits, draws, seed, told)
    changes, seen = np.diff(shares, prepend=0.0, axis=1), np.diff(_shares_of(fits), prepend=0.0)
    ends = [corrected_ends(changes[:, k], float(seen[k]), fits[-1].level) for k in range(len(fits))]
    return Bootstrap(tuple(e[0] for e in ends), tuple(e[1] for e in ends), draws, failed, seed, drawn_words(fits[-1]))


def sampled_shares(
    fits: Sequence[AnyFit], draws: int, seed: int, told: Callable[[int], None] | None = None
) -> tuple[Array, int]:
    """Return R² (or McFadden's) of fits in samples, shape (samples, fits), and how many samples could not be fitted; raises as `bootstrap`.

    The fits are of the same rows; the last one holds all terms of the others.
    """
    found, failed = found_in_samples(fits[-1], draws, seed, _linear_shares(fits), _logistic_shares(fits), told)
    return np.array(found), failed


def found_in_samples(
    last: AnyFit,
    draws: int,
    seed: int,
    of_products: Callable[[Moments], T | None],
    of_weights: Callable[[Array], T | None],
    told: Callable[[int], None] | None = None,
) -> tuple[list[T], int]:
    """Return what is found in samples of the rows of a fit, and how many samples could not be fitted; raises as `bootstrap`.

    Of a linear fit by the cross-products of each sample, of a logistic one by how much each row counts in it; None where it cannot be.
    """
    if isinstance(draws, bool) or not isinstance(draws, int) or draws < FEWEST_DRAWS:
        raise MarkbaseError(
            f"The number of samples to draw is {draws!r}; it must be a whole number, {FEWEST_DRAWS} or more."
        )
    if last.fixed_effect_names:
        raise FitError("Samples are not drawn for a fit with levels taken out; give the column as a term instead.")
    if isinstance(last, LogisticFit) and last.penalty:
        raise FitError(
            "Samples are not drawn for penalised likelihood, whose intervals, by comparing likelihoods, need none."
        )
    if last.crossed is not None:
        names = [kind.name for kind in last.errors.by]
        raise FitError(
            f"Samples are drawn of rows, or of whole levels of one group, not of {listed(quoted(names))}: cluster by one of them for it."
        )
    if last.errors.replicates:
        raise FitError(
            "Replicate weights are samples of the survey already, and errors are from these: samples are not drawn besides."
        )
    if last.time is not None:
        raise FitError(
            "Samples of single rows would take apart what follows in time: errors that allow for serial correlation (HAC) need no draws."
        )
    check_seed(seed)
    rng = np.random.default_rng(seed)
    samples = _cluster_samples(last, draws, rng) if isinstance(last, LinearFit) else None
    if samples is not None:
        each = map(of_products, samples)
    else:
        _refuse_in_parts(last)
        weights = _samples(last, draws, rng)
        each = map(of_products, _moments_of(last, weights)) if isinstance(last, LinearFit) else map(of_weights, weights)
    kept = []
    for done, found in enumerate(each, 1):
        if found is not None:
            kept.append(found)
        if told is not None and done % 50 == 0:
            told(done)
    failed = draws - len(kept)
    if failed > _MOST_FAILED * draws:
        raise FitError(
            f"In {failed:,} of {draws:,} samples a model could not be fitted (levels with few rows, or an event that is foretold): merge levels, "
            f"or do without these intervals."
        )
    return kept, failed


def drawn_words(fit: AnyFit) -> str:
    """Say what is drawn: rows, or whole clusters, within strata if there are some."""
    what = f"whole levels of `{fit.cluster.name}`" if fit.cluster is not None else "rows"
    return what + (f" within strata of `{fit.strata.name}`" if fit.strata is not None else "")


def _shares_of(fits: Sequence[AnyFit]) -> list[float]:
    return [getattr(f.strength, f.family.share) for f in fits]


def corrected_ends(changes: Array, seen: float, level: float, acceleration: float = 0.0) -> tuple[float, float]:
    """Return the bias-corrected percentiles, accelerated or not: at ``Φ(z₀ + (z₀ ± z)/(1 − a(z₀ ± z)))``."""
    count = len(changes)
    below = (np.count_nonzero(changes < seen) + 0.5 * np.count_nonzero(changes == seen)) / count
    shift = float(sp.ndtri(np.clip(below, 0.5 / count, 1 - 0.5 / count)))
    z = float(sp.ndtri((1 + level) / 2))
    ends = [shift + (shift + side) / (1 - acceleration * (shift + side)) for side in (-z, z)]
    low, high = np.quantile(changes, sp.ndtr(ends))
    return float(low), float(high)


def _samples(fit: AnyFit, draws: int, rng: np.random.Generator) -> Iterator[Array]:
    """Yield with how much each row counts in each sample, shape (rows of the study,)."""
    inside = np.arange(fit.sample.rows) if fit.used is None else np.flatnonzero(fit.used)
    weights = np.zeros(fit.sample.rows)
    own = fit.weights.values[inside] if fit.weights is not None else None
    places, units = np.arange(len(inside)), len(inside)
    if fit.cluster is not None:
        _, places = np.unique(fit.cluster.values[inside], return_inverse=True)
        units = int(places.max()) + 1
    strata = None
    if fit.strata is not None:
        strata = np.zeros(units, dtype=np.intp)
        strata[places] = fit.strata.values[inside]
    for _ in range(draws):
        if fit.cluster is None and fit.weights is not None and fit.weights.kind == "frequency":
            assert own is not None
            weights[inside] = _cases_drawn(own, strata, rng)
        else:
            counts = _drawn(units, strata, rng)[places]
            weights[inside] = counts if own is None else counts * own
        yield weights


def _drawn(units: int, strata: NDArray[np.intp] | None, rng: np.random.Generator) -> Array:
    """Return how often each of some units counts in a sample: as often as it is drawn, within strata n/(n − 1) times that of n − 1 draws."""
    if strata is None:
        return np.bincount(rng.integers(0, units, units), minlength=units).astype(np.float64)
    order, sizes = np.argsort(strata, kind="stable"), np.bincount(strata)
    begins, draws = np.cumsum(sizes) - sizes, np.maximum(sizes - 1, 0)
    picked = np.repeat(begins, draws) + (rng.random(int(draws.sum())) * np.repeat(sizes, draws)).astype(np.intp)
    return np.bincount(order[picked], minlength=units) * (sizes / np.maximum(sizes - 1, 1))[strata]


def _cases_drawn(cases: Array, strata: NDArray[np.intp] | None, rng: np.random.Generator) -> Array:
    """Return the same of rows that stand for several cases, each of which may be drawn."""
    if strata is None:
        return rng.multinomial(round(float(cases.sum())), cases / cases.sum()).astype(np.float64)
    found = np.zeros(len(cases))
    for stratum in np.unique(strata):
        here = strata == stratum
        size = round(float(cases[here].sum()))
        found[here] = rng.multinomial(size - 1, cases[here] / cases[here].sum()) * (size / (size - 1))
    return found


def _refuse_in_parts(fit: AnyFit) -> None:
    """Refuse rows that come in parts, of which single ones would be drawn, or that would be climbed over in every sample."""
    if isinstance(fit, LogisticFit):
        what, way = "drawing samples for a logistic fit (bootstrap)", "take a sample of the rows for it"
    elif fit.cluster is not None:
        what, way = (
            f"drawing the whole levels of `{fit.cluster.name}`, which are very many (bootstrap),",
            "cluster by a coarser group, or leave terms of many levels out",
        )
    else:
        what, way = (
            "drawing single rows again and again (bootstrap)",
            "cluster the errors by a group, whose whole levels are then drawn, or take a sample of the rows for it",
        )
    refuse_in_parts(fit.outcome.values, what, f"{way}; robust and clustered errors need no draws")


def _blocks_of(fit: AnyFit) -> list[CodedColumns]:
    return [*(c.coded() for c in fit.components), CodedColumns(1, multiplier=fit.outcome.values)]


def _moments_of(fit: AnyFit, samples: Iterable[Array]) -> Iterator[Moments]:
    """Yield the cross-products of samples, by how often each row is in them."""
    for weights in samples:
        yield gather(_blocks_of(fit), len(weights), fit.used, weights)


def _cluster_samples(fit: LinearFit, draws: int, rng: np.random.Generator) -> Iterator[Moments] | None:
    """Return the cross-products of samples of whole clusters; None where rows are drawn, or those of all clusters are too many to keep."""
    if fit.cluster is None:
        return None
    codes, counts = numbered_levels(fit.cluster, fit.used)
    clusters, width = len(counts), fit.moments.cross.shape[0]
    if clusters * width**2 > _MOST_KEPT:
        return None
    heavy = None if fit.weights is None else fit.weights.values
    strata = None
    if fit.strata is not None:
        joint = codes.astype(np.int64) * len(fit.strata.levels) + fit.strata.values.astype(np.int64)
        told = np.bincount(joint if fit.used is None else joint[fit.used], minlength=clusters * len(fit.strata.levels))
        strata = np.argmax(told.reshape(clusters, -1), axis=1)
    products = cluster_products(_blocks_of(fit), fit.moments, fit.used, heavy, codes, clusters)

    def drawn() -> Iterator[Moments]:
        for _ in range(draws):
            often = _drawn(clusters, strata, rng)
            yield replace(fit.moments, cross=(often @ products.reshape(clusters, -1)).reshape(width, width))

    return drawn()


def _linear_shares(fits: Sequence[AnyFit]) -> Callable[[Moments], Array | None]:
    """Return what gives R² of every block by the cross-products of a sample; None where one cannot be fitted."""
    fit = fits[-1]
    place = {c.key: k for k, c in enumerate(fit.components, 1)}
    columns = [
        fit.moments.columns_of([0, *(place[c.key] for c in block.components)])[block.solution.columns] for block in fits
    ]

    def take(moments: Moments) -> Array | None:
        cross, sums = moments.cross, moments.cross[0]
        centred = cross - np.outer(sums, sums) / cross[0, 0]
        varies = np.diag(centred) > _NOTHING * np.diag(cross)
        lengths = np.sqrt(np.where(varies, np.diag(centred), 1.0))
        found = []
        for own in columns:
            own = own[varies[own]]  # a level may have no row in a sample
            unit = centred[np.ix_(own, own)] / np.outer(lengths[own], lengths[own])
            factor, trouble = scipy.linalg.lapack.dpotrf(unit, lower=1)
            if trouble or not varies[-1]:
                return None
            projected = scipy.linalg.lapack.dtrtrs(factor, centred[own, -1] / lengths[own], lower=1)[0]
            found.append(float(projected @ projected) / float(centred[-1, -1]))
        return np.array(found)

    return take


class SampleMaximum(NamedTuple):
    """Where the likelihood of a sample is largest."""

    coefficients: Array
    """Shape (1 + p,): the start, and the inner coefficients of the fit; 0 for a level that has no row."""
    loglik: float
    """The log-likelihood there."""
    whole: bool
    """Whether every level of the fit has a row."""


class Climbs:
    """The maxima of a logistic fit in samples of its rows."""

    def __init__(self, fit: LogisticFit) -> None:
        self.fit = fit
        told = fit.likelihood, fit.solution.columns, fit.theta
        self._laid_out = LaidOutRows.of(*told, fit.information.root)

    def maximum(self, weights: Array) -> SampleMaximum | None:
        """Return the maximum in a sample, by how often each row of the study is in it, shape (rows,); None where there is none."""
        old, columns = self.fit.likelihood, self.fit.solution.columns
        if not 0 < float(weights @ old.event) < float(weights.sum()):
            return None
        if self._laid_out is not None and (near := self._laid_out.maximum(weights)) is not None:
            return SampleMaximum(*near, whole=True)
        rows = Likelihood(old.blocks, old.event, old.used, weights.copy(), old.moments)
        occurring = rows.occurring(columns)
        try:
            best = maximise(rows, occurring, self.fit.theta)
        except (Dependent, np.linalg.LinAlgError):
            return None
        if best.status != "converged":
            return None
        found = np.append(best.point.theta.start, best.point.theta.slopes[columns])
        return SampleMaximum(found, best.point.loglik, len(occurring) == len(columns))


def _logistic_shares(fits: Sequence[AnyFit]) -> Callable[[Array], Array | None]:
    """Return what gives McFadden's R² of every block in a sample; None where one cannot be fitted."""
    climbs = [Climbs(fit) for fit in fits if isinstance(fit, LogisticFit)]

    def take(weights: Array) -> Array | None:
        found = []
        for one in climbs:
            best = one.maximum(weights)
            if best is None:
                return None
            whole, happened = float(weights.sum()), float(weights @ one.fit.likelihood.event)
            rate = happened / whole
            null = happened * np.log(rate) + (whole - happened) * np.log1p(-rate)
            found.append(1 - best.loglik / null)
        return np.array(found)

    return take
