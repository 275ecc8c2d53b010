"""A blockwise entry: a rung for each block, all on the same rows, and the change between rungs.

References
----------
Cohen, Cohen, West & Aiken (2003), Applied Multiple Regression/Correlation Analysis for the Behavioral Sciences, 3rd ed.,
ch. 5, doi:10.4324/9780203774441.
Steiger (2004), Psychological Methods 9(2), 164-182, doi:10.1037/1082-989X.9.2.164 (intervals from the noncentral F).
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import pandas as pd
import scipy.optimize
import scipy.special as sp

from markbase.core.comparing.changes import Change, change_between
from markbase.core.comparing.moving import make_ladder_reading
from markbase.core.display import Shown
from markbase.core.errors import MarkbaseError, near
from markbase.core.model.linear import LinearFit
from markbase.core.model.logistic import LogisticFit
from markbase.core.reading.told import Reading
from markbase.core.screening.screen import screen_fit

AnyFit = LinearFit | LogisticFit


@dataclass(frozen=True, eq=False, repr=False)
class Ladder(Shown):
    """The fits of a blockwise entry, and what each block adds."""

    names: tuple[str, ...]
    """The blocks, in the order of entry."""
    added: tuple[tuple[str, ...], ...]
    """The terms each block adds."""
    rungs: tuple[AnyFit, ...]
    """The fit after each block, all on the rows of the last."""
    rows_alone: tuple[int, ...]
    """The rows each rung could have used by itself; the rows of the last are those of all."""

    def __iter__(self) -> Iterator[AnyFit]:
        return iter(self.rungs)

    def __len__(self) -> int:
        return len(self.rungs)

    def __getitem__(self, block: str | int) -> AnyFit:
        if isinstance(block, int):
            return self.rungs[block]
        if block not in self.names:
            raise MarkbaseError(f"There is no block `{block}`.{near(block, self.names)}")
        return self.rungs[self.names.index(block)]

    @property
    def last(self) -> AnyFit:
        """The whole model."""
        return self.rungs[-1]

    @property
    def logistic(self) -> bool:
        """Whether the fits are of a yes/no outcome."""
        return isinstance(self.last, LogisticFit)

    @cached_property
    def changes(self) -> tuple[Change, ...]:
        """The test of each block, given those before it."""
        below: list[AnyFit | None] = [None, *self.rungs[:-1]]
        return tuple(change_between(b, a) for b, a in zip(below, self.rungs, strict=True))

    @cached_property
    def steps(self) -> pd.DataFrame:
        """One row a block: what it adds.

        `block`, `added` (its terms), `used` (rows, the same throughout), `parameters` (coefficients, the intercept among
        them), then for linear models `r2`, `r2_adjusted`, `r2_change`, `change_low`, `change_high`, `f2`, `typical_miss`,
        for logistic ones `deviance`, `mcfadden`, `mcfadden_change`, `nagelkerke`, `tjur`; then the test of the change:
        `statistic` (F, or chi-squared), `df`, `df_rest`, `p`, `test` (which it is), and `aic`, `bic`. The interval of the change
        is that of the noncentral F, with R² of the rung below taken as it is (NaN where errors are not classical).
        """
        records = []
        before = 0.0
        for name, added, fit, change in zip(self.names, self.added, self.rungs, self.changes, strict=True):
            record: dict[str, object] = {
                "block": name,
                "added": ", ".join(added),
                "used": fit.sample.used,
                "parameters": len(fit.solution.columns) + 1,
            }
            if isinstance(fit, LinearFit):
                s = fit.strength
                low, high = _interval(change, before, fit)
                record |= {
                    "r2": s.r2,
                    "r2_adjusted": s.r2_adjusted,
                    "r2_change": s.r2 - before,
                    "change_low": low,
                    "change_high": high,
                    "f2": (s.r2 - before) / (1 - s.r2) if s.r2 < 1 else math.inf,
                    "typical_miss": s.typical_miss,
                }
                before = s.r2
            else:
                t = fit.strength
                record |= {
                    "deviance": t.deviance,
                    "mcfadden": t.mcfadden,
                    "mcfadden_change": t.mcfadden - before,
                    "nagelkerke": t.nagelkerke,
                    "tjur": t.tjur,
                }
                before = t.mcfadden
            record |= {
                "statistic": change.statistic,
                "df": change.df,
                "df_rest": change.df_rest,
                "p": change.p,
                "test": change.kind,
                "aic": fit.strength.aic,
                "bic": fit.strength.bic,
            }
            records.append(record)
        return pd.DataFrame(records)

    @cached_property
    def moves(self) -> pd.DataFrame:
        """How every estimate moves from rung to rung.

        `term`, `level`, `base`, then the estimate in each block's rung (NaN before it enters; the base is 0).
        """
        return self._side_by_side("estimate")

    @cached_property
    def errors(self) -> pd.DataFrame:
        """The standard errors that belong to `moves`."""
        return self._side_by_side("se")

    def _side_by_side(self, column: str) -> pd.DataFrame:
        last = self.last._telling.rows
        table: dict[str, list[object]] = {
            "term": [r.term for r in last],
            "level": [r.compared.level for r in last],
            "base": [r.compared.base for r in last],
        }
        for name, fit in zip(self.names, self.rungs, strict=True):
            telling = fit._telling
            values = (
                fit._told_estimates if column == "estimate" else np.where(telling.known, fit._se(fit._roots), np.nan)
            )
            found = {(r.term, r.compared.level): v for r, v in zip(telling.rows, values.tolist(), strict=True)}
            table[name] = [found.get((r.term, r.compared.level), math.nan) for r in last]
        return pd.DataFrame(table)

    @cached_property
    def inflation(self) -> pd.DataFrame:
        """The inflation of every term in each rung: `term`, then its comparable value (√VIF of an amount) a block.

        NaN before a term enters, for terms that are products, and in a rung of one term. Linear models only.
        """
        names = [t.name for t in self.last.parts]
        table = pd.DataFrame({"term": names})
        for block, fit in zip(self.names, self.rungs, strict=True):
            if not isinstance(fit, LinearFit) or fit.within is not None or all(t.parts for t in fit.parts):
                table[block] = np.nan
                continue
            own = screen_fit(fit).terms.set_index("term")["comparable"]
            table[block] = [float(own.get(name, math.nan)) for name in names]
        return table

    def reading(self) -> Reading:
        """Say what each block adds, and which estimates move when it enters.

        Returns
        -------
        Reading
            Sentences with their cautions; print it, or take its `statements`.
        """
        return make_ladder_reading(self.last, self.names, self.added, self.rungs, self.changes, self.steps)


def _interval(change: Change, before: float, fit: LinearFit) -> tuple[float, float]:
    """Return an interval for the change of R², from the noncentral F of its test."""
    if change.kind != "F" or fit.errors.middle is not None or not math.isfinite(change.statistic):
        return math.nan, math.nan
    n, tail = fit.moments.rows, (1 - fit.level) / 2
    ends = []
    for upper in (1 - tail, tail):
        central = float(sp.fdtr(change.df, change.df_rest, change.statistic))
        if central <= upper:  # even no effect at all puts less than this below what was seen
            ends.append(0.0)
            continue
        shift = _noncentrality(upper, change)
        f2 = shift / n
        ends.append(f2 / (1 + f2) * (1 - before))
    return ends[0], ends[1]


def _noncentrality(share: float, change: Change) -> float:
    """Return the noncentrality at which a share of the distribution lies below the statistic, by root finding."""

    def below(shift: float) -> float:
        return float(sp.ncfdtr(change.df, change.df_rest, shift, change.statistic))

    middle = change.df * change.statistic
    low, high = 0.0, middle + 8 * math.sqrt(middle + change.df) + 20
    while below(high) > share:
        low, high = high, 2 * high
    found, _ = scipy.optimize.brentq(lambda shift: below(shift) - share, low, high, rtol=1e-12, full_output=True)
    return float(found)


def cumulative(added: Sequence[Sequence[str]]) -> list[list[str]]:
    """Return the terms after each block."""
    return [[name for block in added[: k + 1] for name in block] for k in range(len(added))]
