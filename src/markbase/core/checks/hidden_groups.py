"""Columns outside a model whose rows are alike in what it misses: persons measured more than once, classes that nobody named as clusters.

References
----------
Henderson (1953) and Kish (1965) as in `intraclass`; of Pearson residuals by one-way analysis of variance, Donner (1986), International
Statistical Review 54(1), 67-82, doi:10.2307/1403259.
"""

from __future__ import annotations

import math
from dataclasses import replace
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from markbase.core.checks.intraclass import intraclass_by
from markbase.core.checks.some_rows import of_which_rows
from markbase.core.design.outcome_in_levels import histories
from markbase.core.design.repeated_rows import codes_of, rows_alike, same_within
from markbase.core.inference.distributions import p_of_f
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.linear import LinearFit
from markbase.core.rows.parts import in_parts
from markbase.core.rows.row_functions import counted, sample_of
from markbase.core.study.column import Column

_SURE, _LEAST, _LARGER = 0.001, 0.05, 1.5
"""Nobody asked for these tests: p below, and an intraclass correlation, or of what a term of the model is the same within, a design effect above, what is told."""
MOST_COLUMNS, MOST_COEFFICIENTS = 10, 500
"""So many columns are asked, unless the model has more coefficients."""
_FEW_CLUSTERS = 10
"""So few levels are no clusters to go by: they are a term that is lacking."""


class Alike(NamedTuple):
    """How alike rows of one level of a column are in what a model misses."""

    column: str
    """Its name."""
    levels: int
    """How many levels rows used have; 0 where they are many and not counted."""
    correlation: float
    """The intraclass correlation of the residuals."""
    statistic: float
    """F of the differences between levels."""
    df: int
    """Its degrees of freedom."""
    df_rest: float
    """Those of the variation within levels."""
    p: float
    """Its p."""
    design_effect: float
    """How many times as large the variance of what is the same in all rows of a level is."""
    where: str = ""
    """In which rows they are alike, after the figures; empty for all."""
    same: str = ""
    """A column of the model that is the same in all rows of each level; empty for none."""

    @property
    def is_few(self) -> bool:
        """Whether levels are too few to cluster by; those that are not counted are many."""
        return 0 < self.levels < _FEW_CLUSTERS


def hidden_group(fit: AnyFit) -> Alike | None:
    """Return the column outside the model by which rows go together most; None where none is sure to, or it is not asked.

    It is not where errors are clustered, or rows are weighted. Of very many rows some are looked at; the
    design effect is of all.
    """
    if not fit.repeating or fit.cluster is not None or fit.weights is not None or fit.exact:
        return None
    some = fit._on_some
    if some is None or some.exact or len(some.solution.columns) > MOST_COEFFICIENTS:
        return None
    found = []
    for column, all_of_it in list(zip(some.repeating, fit.repeating, strict=True))[:MOST_COLUMNS]:
        alike = _alike(some, column)
        if alike is None or not alike.p < _SURE:
            continue
        alike = alike._replace(same=same_in(some, column))
        if some is not fit:
            alike = _of_all(fit, alike, all_of_it, of_which_rows(some, fit))
        if is_told(alike):
            found.append(alike)
    return max(found, key=lambda a: a.design_effect, default=None)


def is_told(found: Alike) -> bool:
    """Return whether rows that go together are told unasked."""
    much = found.correlation > _LEAST or (bool(found.same) and found.design_effect > _LARGER)
    return found.p < _SURE and much


def same_in(fit: AnyFit, column: Column) -> str:
    """Name a column of the model that is the same in all rows of each level of another; empty for none."""
    inside = fit.rows_used.inside
    codes = codes_of(column, slice(None))[inside]
    columns = [v.column for v in fit.variables]
    return next((own.name for own in columns if same_within(own.values[inside], codes)), "")


def _of_all(fit: AnyFit, alike: Alike, column: Column, where: str) -> Alike:
    """Return what is known of some rows with the levels, and the design effect, of all; of numbers in parts levels are not counted, 0."""
    if in_parts(column.values) and not column.is_categorical:
        alone = codes_of(replace(column, values=sample_of(column.values[fit.rows_used.inside])), slice(None))
        effect = 1 + (rows_alike(alone, fit.sample.used) - 1) * alike.correlation
        every = len(alone) == fit.sample.used  # all rows are in memory
        levels = int(np.count_nonzero(np.bincount(alone[alone >= 0]))) if every else 0
        return alike._replace(levels=levels, design_effect=effect, where=where)
    codes = codes_of(column, slice(None))[fit.rows_used.inside]
    counts = counted(codes, int(codes.max()) + 1).astype(np.float64)
    effect = 1 + (float(counts @ counts) / counts.sum() - 1) * alike.correlation
    return alike._replace(levels=int(np.count_nonzero(counts)), design_effect=effect, where=where)


def _alike(fit: AnyFit, column: Column) -> Alike | None:
    codes = codes_of(column, slice(None))
    if ends_with_event(fit, codes):
        return None
    if isinstance(fit, LinearFit):
        of = intraclass_by(fit, column.name, codes, int(codes.max()) + 1, False)
        if of is None:
            return None
        return Alike(column.name, of.clusters, of.correlation, of.statistic, of.df, of.df_rest, of.p, of.design_effect)
    return _in_log_odds(fit, column.name, codes[fit.rows_used.inside])


def ends_with_event(fit: AnyFit, codes: NDArray[np.integer]) -> bool:
    """Return whether the rows of each level are an event history, by codes of all rows: how many there are then depends on the outcome, and they count as independent."""
    if in_parts(codes) or not (fit.family.shares or fit.outcome.two_values == (0.0, 1.0)):
        return False
    inside = fit.rows_used.inside
    return histories(fit.observed_numbers[inside], codes[inside]) is not None


def _in_log_odds(fit: AnyFit, name: str, codes: NDArray[np.intp]) -> Alike | None:
    """Compare the Pearson residuals of a logistic fit between levels, by one-way analysis of variance."""
    e = misses(fit)
    return None if codes.min() < 0 or e is None else one_way(name, e, codes)


def misses(fit: AnyFit) -> NDArray[np.float64] | None:
    """Return what a model misses in each row used: residuals, of a logistic fit Pearson's; None where a fitted probability is 0 or 1."""
    inside = fit.rows_used.inside
    if isinstance(fit, LinearFit):
        return fit._residuals[inside]
    fitted = fit._fitted[inside]
    if fitted.min() <= 0 or fitted.max() >= 1:
        return None
    found: NDArray[np.float64] = fit._residuals[inside] / np.sqrt(fitted * (1 - fitted))
    return found


def one_way(name: str, e: NDArray[np.float64], codes: NDArray[np.intp], taken: int = 0) -> Alike | None:
    """Compare values between levels by analysis of variance, `taken` degrees of freedom of which went before."""
    counts = np.bincount(codes)
    counts, sums = counts[counts > 0].astype(np.float64), np.bincount(codes, weights=e)[counts > 0]
    n, levels = len(e), len(counts)
    rest = n - levels - taken
    if levels < 2 or rest < 1:
        return None
    between = float(sums**2 @ (1 / counts) - e.sum() ** 2 / n)
    within = float(e @ e) - float(sums**2 @ (1 / counts))
    F = between / (levels - 1) / (within / rest) if within > 0 else math.inf
    size = (n - float(counts @ counts) / n) / (levels - 1)
    correlation = 1.0 if math.isinf(F) else (F - 1) / (F - 1 + size)
    effect = 1 + (float(counts @ counts) / n - 1) * max(correlation, 0.0)
    return Alike(name, levels, correlation, F, levels - 1, rest, float(p_of_f(F, levels - 1, rest)), effect)
