"""Replicate weights of a survey: in each set of them other parts of the sample count, so that what estimates do from one to the next tells their errors."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import ColumnError, FitError, MarkbaseError, count_noun, listed, quoted, remark
from markbase.core.formatting import short
from markbase.core.study.column import Column
from markbase.core.study.named_alike import names_like
from markbase.core.study.study import Study

METHODS = ("BRR", "Fay", "JK1", "JK2", "SDR", "bootstrap")
"""How replicate weights were made."""
_WORDS = {
    "BRR": "balanced repeated replication",
    "Fay": "balanced repeated replication after Fay, with weights halved and half as large again",
    "JK1": "the jackknife that leaves out one unit at a time",
    "JK2": "the jackknife of pairs",
    "SDR": "successive differences",
    "bootstrap": "the bootstrap",
}
_FEWEST, _OFF = 2, 1.5
"""So many replicates there are at least, and the mean of one is no further from that of the weights than so many times."""


@dataclass(frozen=True, eq=False)
class Replicates:
    """Replicate weights."""

    names: tuple[str, ...]
    """Their columns."""
    values: tuple[Any, ...]
    """The weights, each of shape (rows,); 0 where a row does not count."""
    method: str
    """How they were made, one of `METHODS`."""
    scale: float
    """What the sum of squared differences is multiplied with."""

    @property
    def df(self) -> int:
        """Degrees of freedom of t: as many as there are of them, one less where one unit is left out at a time or units are drawn."""
        return len(self.names) - (self.method in ("JK1", "bootstrap"))

    @property
    def words(self) -> str:
        """What they are."""
        first, last = self.names[0], self.names[-1]
        return f"{len(self.names)} replicate weights (`{first}` to `{last}`, {_WORDS[self.method]})"


def scale_of(method: str, count: int) -> float:
    """Return what the sum of squared differences from so many replicates is multiplied with."""
    scales = {"BRR": 1 / count, "Fay": 4 / count, "JK1": (count - 1) / count, "JK2": 1.0, "SDR": 4 / count}
    return scales.get(method, 1 / count)


def take_replicates(
    study: Study,
    given: str | Sequence[str],
    method: str | None,
    scale: float | None,
    weights: Column | None,
    used: NDArray[np.bool_] | None,
    inside: Collection[str] = (),
) -> Replicates:
    """Check replicate weights, and take them; 0 for rows not used. None may be one of the columns `inside` the model.

    Raises a `MarkbaseError` if nothing is said of how they were made, or there are no sampling weights, and a `ColumnError` or `FitError` if they cannot be used.
    """
    names = names_like(given, study.columns)
    if weights is None:
        raise MarkbaseError("Replicate weights go with the weights of the sample itself: name these as well.")
    if method is None:
        raise MarkbaseError(
            f"Say how the replicate weights were made, as the documentation of the survey has it: {listed(quoted(METHODS), 'or')}."
        )
    if method not in METHODS:
        raise MarkbaseError(f"There are no replicate weights {method!r}; there are {listed(quoted(METHODS))}.")
    if scale is not None and not scale > 0:
        raise MarkbaseError(f"What squared differences are multiplied with is above 0, not {scale!r}.")
    if len(names) < _FEWEST:
        raise MarkbaseError(f"Errors need two replicate weights or more, and {listed(quoted(names))} is one.")
    taken = [name for name in names if name in {weights.name, *inside}]
    if taken:
        what = "the weights of the sample itself" if taken[0] == weights.name else "a column of the model"
        raise MarkbaseError(
            f"`{taken[0]}` is {what}, and no replicate weight; name the replicate weights by what they alone have in common."
        )
    values: list[Any] = []
    whole = _mean_of(weights.values, used)
    for name in names:
        column = study.column(name)
        if column.is_categorical or column.fault:
            raise ColumnError(column.fault or f"`{name}` is categorical; replicate weights are numeric columns.")
        own = column.values if used is None else np.where(used, column.values, 0.0)
        gaps = int(np.count_nonzero(np.isnan(own)))
        if gaps:
            raise FitError(
                f"The replicate weights `{name}` are missing in {count_noun(gaps, 'row')} used: a row that does not count in them has 0."
            )
        mean = _mean_of(own, used)
        if not mean > 0:
            raise FitError(
                f"The replicate weights `{name}` sum to {short(mean)} in the rows used: no row counts in them."
            )
        if not values and not 1 / _OFF < mean / whole < _OFF:
            remark(
                f"On average `{name}` is {short(mean)} where the weights are {short(whole)}: are these replicate weights, or factors that the weights are to be multiplied with first?"
            )
        values.append(own)
    return Replicates(names, tuple(values), method, scale_of(method, len(names)) if scale is None else float(scale))


def _mean_of(values: Any, used: NDArray[np.bool_] | None) -> float:
    """Return the mean of a column in the rows used."""
    return float((values if used is None else values[used]).mean())
