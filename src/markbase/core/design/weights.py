"""With how much each row counts."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.replicates import Replicates
from markbase.core.errors import FitError, MarkbaseError, count_noun
from markbase.core.study.blanking import blank_codes
from markbase.core.study.column import Column

Array = NDArray[np.float64]


@dataclass(frozen=True)
class Weighting:
    """By what rows count."""

    kind: str
    """``frequency`` (a row stands for several alike) or ``sampling`` (it stands for others who were not asked)."""
    column: str
    """The column they are from."""

    @property
    def short(self) -> str:
        """What the weights are, for where that stands beside other facts."""
        return f"{'frequencies' if self.kind == 'frequency' else 'sampling weights'} from `{self.column}`"

    @property
    def words(self) -> str:
        """What the weights are, and what follows from it."""
        if self.kind == "frequency":
            return f"{self.short}: each row counts as so many rows"
        return f"{self.short}, scaled to mean 1: estimates are for those the sample stands for"


@dataclass(frozen=True, eq=False)
class Weights(Weighting):
    """With how much each row counts."""

    values: Array
    """Shape (rows,): as given for frequencies; for sampling, scaled so that the rows used have mean 1; 0 for rows not used."""
    present: NDArray[np.bool_]
    """Shape (rows,): whether a row has a weight, used or not."""
    replicates: Replicates | None = None
    """Replicate weights that go with them; None for none."""

    def on(self, used: NDArray[np.bool_]) -> Weights:
        """Return the same on some of the rows: sampling weights are scaled anew, so that these have mean 1."""
        if self.kind != "sampling":
            return self
        return replace(self, values=np.where(used, self.values, 0.0) / self.values[used].mean())

    def counted(self, rows: NDArray[np.bool_] | None = None) -> int:
        """Return how many rows some of them are, by default all: each as often as a frequency says."""
        some = self.values if rows is None else self.values[rows]
        return round(float(some.sum())) if self.kind == "frequency" else int(np.count_nonzero(some))


def unused_words(column: str) -> str:
    """Say that a column has the role of weights, of which no use is made."""
    return f"none, though `{column}` holds some (its role)"


def without_no_weight(column: Column) -> Column:
    """Return a column of weights in which 0 is missing: such a row stands for nobody, and is left out as others are."""
    if not column.valid or np.nanmin(column.values) > 0:
        return column
    return blank_codes(column, {0: "stands for nobody"}, ()).column


def take_weights(column: Column, kind: str, used: NDArray[np.bool_] | None) -> Weights:
    """Check weights (``frequency`` or ``sampling``), and scale them where they are relative; 0 for rows not used.

    Raises a `FitError` for a weight below 0, or a frequency that is no whole number.
    """
    if kind not in ("frequency", "sampling"):
        raise MarkbaseError(f"There are no weights `{kind}`; there are `frequency` and `sampling`.")
    values = column.values if used is None else np.where(used, column.values, 0.0)
    taken = values if used is None else values[used]
    wrong = taken <= 0 if kind == "sampling" else (taken <= 0) | (taken != np.round(taken))
    if wrong.any():
        rule = "0 or more" if kind == "sampling" else "whole numbers of 0 or more"
        raise FitError(
            f"The weights in `{column.name}` must be {rule}, and {count_noun(int(wrong.sum()), 'row')} used "
            f"{'is' if wrong.sum() == 1 else 'are'} not ({taken[wrong][0]:g}); blank such rows, or use another column."
        )
    return Weights(kind, column.name, values / taken.mean() if kind == "sampling" else values, column.present)
