"""How much what the model gives varies over the rows for a profile that names some columns and leaves others open."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.coefficient_map import components_of
from markbase.core.design.mean_columns import Sample, Setting
from markbase.core.design.terms import variables_of
from markbase.core.inference.marginal_effects import changed_component, known_profile
from markbase.core.rows.row_functions import look_up


@dataclass(frozen=True, eq=False)
class UnnamedVariance:
    """The variance over the rows of what profiles do not name, by the law of total variance."""

    sample: Sample
    """The rows."""
    coefficients: NDArray[np.float64]
    """Shape (columns of the moments,): the inner coefficients, 0 where a column is not estimated."""
    _known: dict[frozenset[str], float] = field(default_factory=dict)
    """Variances by what is named, kept once taken."""

    def of(self, setting: Setting) -> float:
        """Return it for what a setting does not name."""
        setting = self.sample.followed(setting)
        if known_profile(self.sample.terms, setting):
            return 0.0
        fixed = self._fixed_by(setting)
        apart = all(fixed.issuperset(c.names) or fixed.isdisjoint(c.names) for c in components_of(self.sample.terms))
        if not apart or len(fixed) < len(setting):
            return self._variance(setting, fixed)
        if fixed not in self._known:  # the same whatever the values that are named
            self._known[fixed] = self._variance(setting, fixed)
        return self._known[fixed]

    def _fixed_by(self, setting: Setting) -> frozenset[str]:
        """Return which variables a setting makes the same in every row: what is derived from others as well may differ."""
        groups = {v.name for v in variables_of(self.sample.terms).values() if v.is_categorical}
        return frozenset(name for name, value in setting.items() if name in groups or np.ndim(value) == 0)

    def _variance(self, setting: Setting, fixed: frozenset[str]) -> float:
        moments, inside = self.sample.moments, self.sample.inside
        found: Any = 0.0
        for k, component in enumerate(components_of(self.sample.terms), 1):
            if fixed.issuperset(component.names):
                continue
            coded = changed_component(component, self.sample, setting)
            own = self.coefficients[moments.starts[k] : moments.starts[k] + component.size]
            value = own[0] if coded.codes is None else look_up(own, coded.codes[inside])
            found = found + value * (1.0 if coded.multiplier is None else coded.multiplier[inside] - moments.centres[k])
        heavy = self.sample.heavy
        mean = np.average(found, weights=heavy)
        return float(np.average((found - mean) ** 2, weights=heavy))
