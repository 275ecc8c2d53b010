"""How much what the model gives varies over the rows for a profile that names some columns and leaves others open."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.coefficient_map import components_of
from markbase.core.design.mean_columns import Sample, Setting
from markbase.core.design.terms import variables_of
from markbase.core.inference.marginal_effects import changed_component, known_profile
from markbase.core.rows.parts import over_parts
from markbase.core.rows.row_functions import look_up

Array = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class UnnamedVariance:
    """The variance over the rows of what profiles do not name, by the law of total variance."""

    sample: Sample
    """The rows."""
    coefficients: Array
    """Shape (columns of the moments,): the inner coefficients, 0 where a column is not estimated."""
    _known: dict[frozenset[str], float] = field(default_factory=dict)
    """Variances by what is named, kept once taken."""

    def each(self, settings: Sequence[Setting]) -> Array:
        """Return it for what each of some settings does not name, shape (settings,): in one pass over the rows."""
        asked: dict[object, tuple[Setting, frozenset[str]]] = {}
        keys: list[object] = []
        for number, setting in enumerate(map(self.sample.followed, settings)):
            fixed = self._fixed_by(setting)
            if known_profile(self.sample.terms, setting):
                keys.append(None)
                continue
            apart = all(
                fixed.issuperset(c.names) or fixed.isdisjoint(c.names) for c in components_of(self.sample.terms)
            )
            # where what is named stands apart it is the same whatever the values
            keys.append(fixed if apart and len(fixed) == len(setting) else number)
            if keys[-1] not in self._known:
                asked.setdefault(keys[-1], (setting, fixed))
        found = dict(zip(asked, self._variances(list(asked.values())), strict=True)) if asked else {}
        self._known.update({key: value for key, value in found.items() if isinstance(key, frozenset)})
        return np.array([0.0 if k is None else found[k] if k in found else self._known[k] for k in keys])  # type: ignore[index]

    def _fixed_by(self, setting: Setting) -> frozenset[str]:
        """Return which variables a setting makes the same in every row: what is derived from others as well may differ."""
        groups = {v.name for v in variables_of(self.sample.terms).values() if v.is_categorical}
        return frozenset(name for name, value in setting.items() if name in groups or np.ndim(value) == 0)

    def _variances(self, asked: Sequence[tuple[Setting, frozenset[str]]]) -> list[float]:
        moments, inside = self.sample.moments, self.sample.inside
        every: list[Any] = []
        for setting, fixed in asked:
            found: Any = 0.0
            for k, component in enumerate(components_of(self.sample.terms), 1):
                if fixed.issuperset(component.names):
                    continue
                coded = changed_component(component, self.sample, setting)
                own = self.coefficients[moments.starts[k] : moments.starts[k] + component.size]
                value = own[0] if coded.codes is None else look_up(own, coded.codes[inside])
                multiplier = 1.0 if coded.multiplier is None else coded.multiplier[inside] - moments.centres[k]
                found = found + value * multiplier
            every.append(found)
        weights, means, squares = (
            np.array(own) for own in zip(*over_parts(_spreads, every, self.sample.heavy), strict=True)
        )
        mean = weights @ means / weights.sum()
        around: Array = (weights @ (means - mean) ** 2 + squares.sum(axis=0)) / weights.sum()
        variances: list[float] = around.tolist()
        return variances


def _spreads(every: Sequence[Array], heavy: Array | None) -> tuple[float, Array, Array]:
    """Return how much some rows count, and of each of several values their mean and the sum of squares about it."""
    if not len(every[0]):
        return 0.0, np.zeros(len(every)), np.zeros(len(every))
    means = np.array([np.average(values, weights=heavy) for values in every])
    ones = np.ones(len(every[0])) if heavy is None else heavy
    squares = np.array([np.dot((v - m) ** 2, ones) for v, m in zip(every, means, strict=True)])
    return float(ones.sum()), means, squares
