"""The rows a fit used: how many they stand for, how many at which levels, and how their numbers spread."""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.coefficient_map import cell_counts, components_of
from markbase.core.design.complete_cases import CompleteCases
from markbase.core.design.moments import Moments
from markbase.core.design.terms import Term, Variable, joint_codes, variable_of, variables_of
from markbase.core.design.weights import Weights
from markbase.core.rows.row_functions import sd_of
from markbase.core.study.column import Column
from markbase.core.study.cutting import few_values

Array = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class RowsUsed:
    """What the rows of a fit are, each counted by its weight. What is asked once is kept."""

    terms: tuple[Term, ...]
    """The terms of the model."""
    sample: CompleteCases
    """How many rows were used, and why others were not."""
    moments: Moments
    """What one pass over the rows left behind."""
    used: NDArray[np.bool_] | None
    """Shape (rows,): which rows were used; None for all."""
    weights: Weights | None
    """With how much each row counts; None if all count alike."""
    _spreads: dict[str, tuple[float, float, float]] = field(default_factory=dict)
    _middles: dict[str, float] = field(default_factory=dict)
    _counts: dict[tuple[str, ...], NDArray[np.int64]] = field(default_factory=dict)
    _clusters: dict[tuple[str, str], NDArray[np.int64]] = field(default_factory=dict)

    @property
    def inside(self) -> slice | NDArray[np.bool_]:
        """The rows used, as something that indexes an array of one value a row."""
        return slice(None) if self.used is None else self.used

    @property
    def times(self) -> Array | None:
        """Shape (rows,): for how many rows each stands by its frequency; None where each stands for itself."""
        return self.weights.values if self.weights is not None and self.weights.kind == "frequency" else None

    @property
    def counted(self) -> int:
        """Rows used, each as often as a frequency weight says."""
        return self.sample.used if self.times is None else round(float(self.times[self.inside].sum()))

    def repeated(self, *values: Array) -> tuple[Array, ...]:
        """Return values of the rows used, each as often as a frequency weight says."""
        if self.times is None:
            return values
        often = np.round(self.times[self.inside]).astype(np.intp)
        return tuple(np.repeat(v, often) for v in values)

    def spread(self, numeric: str) -> tuple[float, float, float]:
        """Describe a numeric column in the rows used.

        Parameters
        ----------
        numeric : str
            The name of a numeric column of the model.

        Returns
        -------
        low, high, sd : float
            Its lowest and highest value and its standard deviation (n − 1), each row counted by its weight.

        Raises
        ------
        ColumnError
            If the model has no such column.
        """
        if numeric not in self._spreads:
            self._spreads[numeric] = self._spread_of(numeric)
        return self._spreads[numeric]

    def _spread_of(self, numeric: str) -> tuple[float, float, float]:
        values, heavy = self._values_of(numeric)
        return float(values.min()), float(values.max()), sd_of(values, heavy)

    def middle(self, numeric: str) -> float:
        """Return the mean of a numeric column in the rows used, each counted by its weight.

        Parameters
        ----------
        numeric : str
            The name of a numeric column of the model.

        Returns
        -------
        float
            The mean.

        Raises
        ------
        ColumnError
            If the model has no such column.
        """
        if numeric not in self._middles:
            values, heavy = self._values_of(numeric)
            self._middles[numeric] = float(values.mean() if heavy is None else np.average(values, weights=heavy))
        return self._middles[numeric]

    def middle_and_around(self, numeric: str) -> list[float]:
        """Return the mean of a numeric column and a standard deviation below and above, those inside the rows used; of two values both."""
        low, high, sd = self.spread(numeric)
        mean = self.middle(numeric)
        distinct = few_values(self.values(numeric), 3)
        return distinct if len(distinct) == 2 else [v for v in (mean - sd, mean, mean + sd) if low <= v <= high]

    def values(self, numeric: str) -> Array:
        """Return the values of a numeric column of the model, shape (rows used,)."""
        return self._values_of(numeric)[0]

    def _values_of(self, numeric: str) -> tuple[Array, Array | None]:
        """Return the values of a numeric column in the rows used, and their weights."""
        heavy = self.weights.values[self.inside] if self.weights else None
        return variable_of(self.terms, numeric, "numeric").column.values[self.inside], heavy

    def counted_between(self, numeric: str, edges: Sequence[float]) -> list[int | None]:
        """Count the rows used in each stretch of a numeric column, its lower edge included, of the last the upper one too; None where there are no rows to count."""
        values, times = self.values(numeric), self.times
        often = None if times is None else times[self.inside]
        found: list[int | None] = []
        for low, high in itertools.pairwise(edges):
            there = (values >= low) & ((values <= high) if high == edges[-1] else (values < high))
            found.append(int(there.sum() if often is None else round(float((there * often).sum()))))
        return found

    @cached_property
    def told_as_equal(self) -> tuple[float, float]:
        """How many rows of equal weight tell as much of a mean, (Σw)²/Σw² (Kish 1965), and the share of all weight that the heaviest row has."""
        heavy = self.weights.values[self.inside] if self.weights else np.ones(1)
        whole = float(heavy.sum())
        return whole**2 / float((heavy * heavy).sum()), float(heavy.max()) / whole

    def counts_at(self, groups: tuple[str, ...]) -> NDArray[np.int64]:
        """Count the rows used at each joint level of some groups, each as often as a frequency weight says.

        Parameters
        ----------
        groups : tuple of str
            The names of groups of the model.

        Returns
        -------
        ndarray of int, shape (levels of the first, levels of the second, …)
            The counts.
        """
        if groups not in self._counts:
            self._counts[groups] = np.round(self._sums_at(groups)).astype(np.int64)
        return self._counts[groups]

    def clusters_with(self, name: str, cluster: Column) -> NDArray[np.int64]:
        """Count the clusters that have each level of a group, or each value of a numeric column of two values, the lower first.

        Parameters
        ----------
        name : str
            A column of the model.
        cluster : Column
            The column of the clusters.

        Returns
        -------
        ndarray of int, shape (levels,)
            The counts.
        """
        if (name, cluster.name) not in self._clusters:
            codes, size = self.codes_of(variables_of(self.terms)[name])
            cells = np.bincount(
                cluster.values[self.inside].astype(np.int64) * size + codes, minlength=len(cluster.levels) * size
            )
            self._clusters[name, cluster.name] = (cells.reshape(-1, size) > 0).sum(axis=0)
        return self._clusters[name, cluster.name]

    def codes_of(self, variable: Variable) -> tuple[NDArray[np.integer], int]:
        """Return the level of each row used, shape (rows used,), or which of its two values a numeric column has, 1 for the higher; and how many there are."""
        column = variable.column
        codes = variable.codes if variable.is_categorical else np.where(column.values == column.span[1], 1, 0)
        return codes[self.inside], max(variable.size, 2)

    def _sums_at(self, groups: tuple[str, ...]) -> Array:
        variables = [variable_of(self.terms, name, "categorical") for name in groups]
        components = components_of(self.terms)
        told = next((k for k, c in enumerate(components) if not c.numerics and c.names == frozenset(groups)), None)
        if self.weights is None and told is not None:  # the moments have counted already
            own = components[told].groups
            sums = cell_counts(told, components, self.moments).reshape([g.size for g in own])
            return sums.transpose([[g.name for g in own].index(n) for n in groups])
        counts = np.bincount(
            joint_codes(variables)[self.inside],
            weights=None if self.times is None else self.times[self.inside],
            minlength=math.prod(v.size for v in variables),
        )
        each: Array = counts.reshape([v.size for v in variables]).astype(np.float64)
        return each
