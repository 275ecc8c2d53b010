"""Sorting rows by a predicted probability, held against guessing the commoner level.

References
----------
DeLong, DeLong & Clarke-Pearson (1988), Biometrics 44(3), 837-845, doi:10.2307/2531595.
Wilson (1927), J. Am. Stat. Assoc. 22(158), 209-212, doi:10.1080/01621459.1927.10502953.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import numpy as np
import pandas as pd
import scipy.special as sp
from numpy.typing import NDArray

from markbase.core.display import ShownTables
from markbase.core.errors import MarkbaseError

Array = NDArray[np.float64]


@dataclass(frozen=True, eq=False, repr=False)
class Classification(ShownTables):
    """Rows sorted by whether the predicted probability reaches a cut."""

    outcome: str
    """The outcome."""
    event: str
    """The event."""
    otherwise: str
    """The other level."""
    cut: float
    """The probability from which the event is predicted."""
    level: float
    """Confidence level."""
    table: pd.DataFrame
    """Counts (or sums of weights): what was observed in rows, what was predicted in columns."""
    area: float
    """Area under the curve: how often a row with the event has a higher probability than one without."""
    area_low: float
    """Its interval, low end (DeLong, even in log odds)."""
    area_high: float
    """High end."""
    held_out: Classification | None = None
    """The same on rows the model had not seen, if it was asked for."""
    folds: int = 0
    """In how many parts the rows were held out in turn; 0 for the rows the model was fitted to."""
    left_out: int = 0
    """Rows that could not be predicted in their turn, as their level occurred in no other part."""
    points: pd.DataFrame = field(default_factory=pd.DataFrame)
    """The curve: `cut`, `sensitivity`, `specificity`."""

    @property
    def correct(self) -> float:
        """Share of rows classified correctly."""
        return float(np.trace(self.table)) / float(self.table.to_numpy().sum())

    @property
    def guess(self) -> float:
        """Share classified correctly by always guessing the commoner level."""
        return float(self.table.sum(axis=1).max() / self.table.to_numpy().sum())

    @property
    def commoner(self) -> str:
        """The commoner level."""
        return str(self.table.sum(axis=1).idxmax())

    @property
    def sensitivity(self) -> float:
        """Share of events predicted as such."""
        return float(self.table.loc[self.event, self.event] / self.table.loc[self.event].sum())  # type: ignore[operator, arg-type]

    @property
    def specificity(self) -> float:
        """Share of non-events predicted as such."""
        return float(self.table.loc[self.otherwise, self.otherwise] / self.table.loc[self.otherwise].sum())  # type: ignore[operator, arg-type]


def classify(
    happened: Array,
    p: Array,
    weights: Array | None,
    names: tuple[str, str, str],
    cut: float,
    level: float,
    **more: object,
) -> Classification:
    """Sort rows by their predicted probability.

    Parameters
    ----------
    happened : ndarray, shape (n,)
        1 for the event, 0 otherwise.
    p : ndarray, shape (n,)
        Predicted probabilities.
    weights : ndarray, shape (n,), optional
        With how much each row counts.
    names : tuple of str
        The outcome, its event and its other level.
    cut : float
        From which probability the event is predicted.
    level : float
        Confidence level of the area's interval.
    **more
        Other fields of the result.

    Returns
    -------
    Classification
        Counts and shares; the area by ranks (weights are not used in its interval).

    Raises
    ------
    MarkbaseError
        If the cut is not between 0 and 1.
    """
    if not isinstance(cut, (int, float)) or not 0 < cut < 1:
        raise MarkbaseError(f"The cut is {cut!r}; it is a probability between 0 and 1, for instance 0.5.")
    outcome, event, otherwise = names
    heavy = np.ones(len(p)) if weights is None else weights
    predicted = p >= cut
    counts = np.zeros((2, 2))
    for observed in (0, 1):
        for guess in (0, 1):
            counts[observed, guess] = heavy[(happened == observed) & (predicted == guess)].sum()
    labels = [otherwise, event]
    table = pd.DataFrame(counts, index=labels, columns=labels)
    area, se = area_under_curve(happened, p)
    low, high = _even_in_log_odds(area, se, level)
    return Classification(
        outcome,
        event,
        otherwise,
        cut,
        level,
        table,
        area,
        low,
        high,
        points=curve(happened, p, heavy),
        **more,  # type: ignore[arg-type]
    )


def area_under_curve(happened: Array, p: Array) -> tuple[float, float]:
    """Return the area under the curve and its standard error.

    Parameters
    ----------
    happened, p : ndarray, shape (n,)
        As for `classify`.

    Returns
    -------
    area, se : float
        The share of pairs of one event and one non-event in which the event has the higher probability, ties
        counting half; its error by DeLong's components. NaN if one side is missing.
    """
    events, others = p[happened == 1], p[happened == 0]
    m, n = len(events), len(others)
    if not m or not n:
        return math.nan, math.nan
    all_ranks = _mid_ranks(np.concatenate([events, others]))
    over = (all_ranks[:m] - _mid_ranks(events)) / n  # share of others below each event
    under = 1 - (all_ranks[m:] - _mid_ranks(others)) / m
    area = float(over.mean())
    if m < 2 or n < 2:
        return area, math.nan
    return area, math.sqrt(float(over.var(ddof=1)) / m + float(under.var(ddof=1)) / n)


def _mid_ranks(values: Array) -> Array:
    _, place, counts = np.unique(values, return_inverse=True, return_counts=True)
    last = np.cumsum(counts)
    ranks: Array = (last - (counts - 1) / 2)[place]
    return ranks


def _even_in_log_odds(share: float, se: float, level: float) -> tuple[float, float]:
    if not 0 < share < 1 or not se > 0:
        return (share, share) if se == 0 else (math.nan, math.nan)
    reach = float(sp.ndtri((1 + level) / 2)) * se / (share * (1 - share))
    middle = math.log(share / (1 - share))
    return float(sp.expit(middle - reach)), float(sp.expit(middle + reach))


def curve(happened: Array, p: Array, heavy: Array) -> pd.DataFrame:
    """Return sensitivity and specificity at every cut that makes a difference.

    Parameters
    ----------
    happened, p, heavy : ndarray, shape (n,)
        Events, probabilities and weights.

    Returns
    -------
    pandas.DataFrame
        `cut`, `sensitivity`, `specificity`, the highest cut first.
    """
    order = np.argsort(-p, kind="stable")
    last = np.append(np.flatnonzero(np.diff(p[order])), len(p) - 1)
    events = np.cumsum((heavy * happened)[order])[last]
    others = np.cumsum((heavy * (1 - happened))[order])[last]
    return pd.DataFrame(
        {
            "cut": np.concatenate([[1.0], p[order][last]]),
            "sensitivity": np.concatenate([[0.0], events / events[-1]]),
            "specificity": 1 - np.concatenate([[0.0], others / others[-1]]),
        }
    )


def calibrate(happened: Array, p: Array, weights: Array | None, parts: int, level: float) -> pd.DataFrame:
    """Compare predicted probabilities with what was observed, in parts of rising probability.

    Parameters
    ----------
    happened, p, weights
        As for `classify`.
    parts : int
        Into how many parts of about equal size the rows are put; equal probabilities stay together.
    level : float
        Confidence level of the observed shares.

    Returns
    -------
    pandas.DataFrame
        `part`, `n`, `lowest`, `highest`, `predicted` (mean), `observed` (share) with `low` and `high` (Wilson).

    Raises
    ------
    MarkbaseError
        If there are fewer than two parts.
    """
    if not isinstance(parts, int) or parts < 2:
        raise MarkbaseError(f"Calibration takes two parts or more, not {parts!r}.")
    heavy = np.ones(len(p)) if weights is None else weights
    edges = np.unique(np.quantile(p, np.linspace(0, 1, parts + 1)[1:-1]))
    where = np.searchsorted(edges, p, side="left")
    z2 = float(sp.ndtri((1 + level) / 2)) ** 2
    records: list[dict[str, float]] = []
    for part in np.unique(where):
        here = where == part
        n, w = int(here.sum()), heavy[here]
        observed = float(np.average(happened[here], weights=w))
        middle = (observed + z2 / (2 * n)) / (1 + z2 / n)
        half = math.sqrt(z2 * (observed * (1 - observed) / n + z2 / (4 * n**2))) / (1 + z2 / n)
        records.append(
            {
                "part": len(records) + 1,
                "n": n,
                "lowest": float(p[here].min()),
                "highest": float(p[here].max()),
                "predicted": float(np.average(p[here], weights=w)),
                "observed": observed,
                "low": middle - half,
                "high": middle + half,
            }
        )
    return pd.DataFrame(records)
