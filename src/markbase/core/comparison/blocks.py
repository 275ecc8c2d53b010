"""A blockwise entry: a block for each block, all on the same rows, and the change between blocks.

References
----------
Cohen, Cohen, West & Aiken (2003), Applied Multiple Regression/Correlation Analysis for the Behavioral Sciences, 3rd ed.,
ch. 5, doi:10.4324/9780203774441.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import pandas as pd

from markbase.core.arguments import checked_methods
from markbase.core.comparison.block_sentences import make_block_reading
from markbase.core.comparison.bootstrap import Bootstrap, bootstrap
from markbase.core.comparison.r2_intervals import intervals_of_changes
from markbase.core.display import Shown
from markbase.core.errors import MarkbaseError, near
from markbase.core.results.changes import Change, change_between
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.results.movements import COLUMNS, movements
from markbase.core.results.statements import Reading
from markbase.core.screening.screen import screen_fit
from markbase.core.tables import name_beside, own_table, table_of

AnyFit = LinearFit | LogisticFit


def shares_explained(fits: Sequence[LinearFit]) -> tuple[list[float], list[float]]:
    """Return the R² of some fits and the adjusted ones, of the variation within the levels where these are taken out."""
    strengths = [fit.strength for fit in fits]
    adjusted = [
        s.r2_adjusted
        if s.r2_within is None
        else 1 - (1 - s.r2_within) * (fit.rows_over + len(fit.solution.columns)) / fit.rows_over
        for fit, s in zip(fits, strengths, strict=True)
    ]
    return [s.r2 if s.r2_within is None else s.r2_within for s in strengths], adjusted


@checked_methods
@dataclass(frozen=True, eq=False, repr=False)
class Blocks(Shown):
    """The fits of a blockwise entry, and what each block adds."""

    names: tuple[str, ...]
    """The blocks, in the order of entry."""
    added: tuple[tuple[str, ...], ...]
    """The terms each block adds."""
    fits: tuple[AnyFit, ...]
    """The fit after each block, all on the rows of the last."""
    rows_alone: tuple[int, ...]
    """The rows each block could have used by itself; the rows of the last are those of all."""
    bootstrapped: Bootstrap | None = None
    """Intervals of the changes from samples drawn out of the rows; None if none were drawn."""

    def __iter__(self) -> Iterator[AnyFit]:
        return iter(self.fits)

    def __len__(self) -> int:
        return len(self.fits)

    def __getitem__(self, block: str | int) -> AnyFit:
        if isinstance(block, int):
            return self.fits[block]
        if block not in self.names:
            raise MarkbaseError(f"There is no block `{block}`.{near(block, self.names)}")
        return self.fits[self.names.index(block)]

    @property
    def last(self) -> AnyFit:
        """The whole model."""
        return self.fits[-1]

    @property
    def _brief(self) -> str:
        return f"{self.last.explained}, blocks {', '.join(self.names)}"

    @property
    def logistic(self) -> bool:
        """Whether the fits are of a yes/no outcome."""
        return self.last.family.shares

    @cached_property
    def changes(self) -> tuple[Change, ...]:
        """The test of each block, given those before it."""
        below: list[AnyFit | None] = [None, *self.fits[:-1]]
        return tuple(change_between(b, a) for b, a in zip(below, self.fits, strict=True))

    @own_table
    def steps(self) -> pd.DataFrame:
        """One row a block: what it adds.

        `block`, `added` (its terms), `used` (rows, the same throughout), `parameters` (coefficients, the intercept among
        them), then for linear models `r2`, `r2_adjusted`, `r2_change`, `change_low`, `change_high`, `f2`, `residual_sd`,
        for logistic ones `deviance`, `mcfadden`, `mcfadden_change`, `change_low`, `change_high`, `nagelkerke`, `tjur`; then the test
        of the change: `statistic` (F, or chi-squared), `df`, `df_rest`, `p`, `test` (which it is), and `aic`, `bic`. The interval of
        the change is that of `bootstrap`; before it, for linear models with classical errors, the wider of that by the noncentral F and of
        that over samples of rows (`r2_intervals`), and NaN otherwise, and where F is smaller than in all but 2.5% (at a level of 95%) of samples
        in which nothing is added. Where the levels of fixed effects are taken out, every R² is of the
        variation within these levels, which is what the blocks can explain.
        """
        return table_of(
            {
                "block": self.names,
                "added": [", ".join(own) for own in self.added],
                "used": [fit.sample.used for fit in self.fits],
                "parameters": [len(fit.solution.columns) + 1 for fit in self.fits],
                **(self._pseudo_r2s() if self.logistic else self._r2s()),
                "statistic": [c.statistic for c in self.changes],
                "df": [c.df for c in self.changes],
                "df_rest": [c.df_rest for c in self.changes],
                "p": [c.p for c in self.changes],
                "test": [c.kind for c in self.changes],
                "aic": [fit.strength.aic for fit in self.fits],
                "bic": [fit.strength.bic for fit in self.fits],
            }
        )

    def _r2s(self) -> dict[str, list[float]]:
        """Return what `steps` tells of linear models."""
        fits = [fit for fit in self.fits if isinstance(fit, LinearFit)]
        r2, adjusted = shares_explained(fits)
        before = [0.0, *r2[:-1]]
        low, high = self._intervals(r2)
        return {
            "r2": r2,
            "r2_adjusted": adjusted,
            "r2_change": [now - below for now, below in zip(r2, before, strict=True)],
            "change_low": low,
            "change_high": high,
            "f2": [(now - below) / (1 - now) if now < 1 else math.inf for now, below in zip(r2, before, strict=True)],
            "residual_sd": [fit.strength.residual_sd for fit in fits],
        }

    def _pseudo_r2s(self) -> dict[str, list[float]]:
        """Return what `steps` tells of logistic models."""
        strengths = [fit.strength for fit in self.fits if isinstance(fit, LogisticFit)]
        mcfadden = [s.mcfadden for s in strengths]
        return {
            "deviance": [s.deviance for s in strengths],
            "mcfadden": mcfadden,
            "mcfadden_change": [now - below for now, below in zip(mcfadden, [0.0, *mcfadden], strict=False)],
            "change_low": self._intervals(mcfadden)[0],
            "change_high": self._intervals(mcfadden)[1],
            "nagelkerke": [s.nagelkerke for s in strengths],
            "tjur": [s.tjur for s in strengths],
        }

    def _intervals(self, r2: Sequence[float]) -> tuple[list[float], list[float]]:
        """Return the lower and upper ends of the changes, NaN where there are none."""
        if self.bootstrapped is not None:
            return list(self.bootstrapped.low), list(self.bootstrapped.high)
        if self.logistic:
            return [math.nan] * len(self), [math.nan] * len(self)
        fits = [fit for fit in self.fits if isinstance(fit, LinearFit)]
        ends = intervals_of_changes(self.changes, r2, fits)
        return [low for low, _ in ends], [high for _, high in ends]

    def bootstrap(self, draws: int = 1000, *, seed: int = 0, told: Callable[[int], None] | None = None) -> Blocks:
        """Take the intervals of the changes from samples drawn out of the rows: of whole clusters where errors are clustered.

        Parameters
        ----------
        draws : int
            How many samples, at least 100. Linear blockwise entries take about a millisecond for each thousand rows and sample, and far
            less where clusters are drawn, whose cross-products one pass takes.
        seed : int
            The seed of the random numbers: the same one gives the same intervals.
        told : callable, optional
            Told now and then how many samples are done.

        Returns
        -------
        Blocks
            The same blockwise entry, with these intervals in its `steps`.

        Raises
        ------
        MarkbaseError
            If there are too few draws, or the seed is below 0; of rows that are read in parts, if not whole clusters are drawn of a linear entry.
        FitError
            If levels are taken out, errors are clustered two ways or robust to serial correlation, likelihood is penalised, or too many samples cannot be fitted.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> blocks = mb.fit_blocks(study, "belonging", {"who": ["age", "voice"], "taking part": ["rehearsals"]})
        >>> blocks.bootstrap(100, seed=1).steps[["block", "r2_change"]].round(3)
                 block  r2_change
        0          who      0.100
        1  taking part      0.047
        """
        return replace(self, bootstrapped=bootstrap(self.fits, draws, seed, told))

    def rebase(self, group: str, base: object) -> Blocks:
        """Tell the same blocks from another base. The rows are not touched, and nothing is estimated again.

        Parameters
        ----------
        group : str
            A group of the whole model.
        base : object
            The label or the code of the new base.

        Returns
        -------
        Blocks
            The same blockwise entry: what each block adds is the same numbers.

        Raises
        ------
        ColumnError
            If the model has no such group.
        LevelError
            If the group has no such level in the rows used.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> blocks = mb.fit_blocks(study, "belonging", {"who": ["age", "voice"], "taking part": ["rehearsals"]})
        >>> blocks.rebase("voice", "tenor").moves.query("base")["level"].tolist()
        ['tenor']
        """
        self.last.variable(group, "categorical")
        fits = (f.rebase(group, base) if any(v.name == group for v in f.variables) else f for f in self.fits)
        return replace(self, fits=tuple(fits))

    @own_table
    def moves(self) -> pd.DataFrame:
        """How every estimate moves from block to block.

        `term`, `level`, `base`, then the estimate in each block's block (NaN before it enters; the base is 0), called as the block (a
        block ``base`` as ``base (block)``).
        """
        return self._side_by_side("estimate")

    @own_table
    def movements(self) -> pd.DataFrame:
        """By how much each estimate moves when a block enters, with the standard error of the movement itself.

        `block`, `term`, `level`, `against`, `before`, `after`, `change`, `se`, `low`, `high`, `p`; only of terms that are about the same thing
        before and after. Of a logistic entry `before` is on the scale of the larger model, so that the change is free of rescaling.
        """
        pairs = zip(self.names[1:], self.fits, self.fits[1:], strict=False)
        found = [movements(before, after).assign(block=name) for name, before, after in pairs]
        table = pd.concat(found, ignore_index=True) if found else pd.DataFrame(columns=COLUMNS).assign(block="")
        return table[["block", *COLUMNS]]

    @own_table
    def errors(self) -> pd.DataFrame:
        """The standard errors that belong to `moves`."""
        return self._side_by_side("se")

    @property
    def names_in_tables(self) -> tuple[str, ...]:
        """What the blocks are called in `moves`, `errors` and `vif`."""
        return tuple(name_beside(("term", "level", "base"), name, "block") for name in self.names)

    @property
    def _terms_of_all(self) -> list[str]:
        """The names of the terms of all blocks, in the order of the last; in front of a curve what it takes the place of."""
        found: dict[str, None] = {}
        for term in self.last.model_terms:
            alike = [t.name for fit in self.fits for t in fit.model_terms if t.keys <= term.keys]
            found |= dict.fromkeys([*alike, term.name])
        return list(found)

    def _side_by_side(self, column: str) -> pd.DataFrame:
        every: dict[tuple[str, str], bool] = {}
        known = [{(r.term, r.compared.level): r.compared.base for r in fit.coefficient_map.rows} for fit in self.fits]
        for term in [self.last.coefficient_map.rows[0].term, *self._terms_of_all]:
            for rows in known:
                every |= {key: base for key, base in rows.items() if key[0] == term and key not in every}
        table: dict[str, Sequence[object]] = {
            "term": [term for term, _ in every],
            "level": [level for _, level in every],
            "base": list(every.values()),
        }
        for name, fit in zip(self.names_in_tables, self.fits, strict=True):
            own = fit.coefficient_rows.estimates if column == "estimate" else fit.coefficient_rows.se
            found = {(r.term, r.compared.level): v for r, v in zip(fit.coefficient_map.rows, own.tolist(), strict=True)}
            table[name] = [found.get(key, math.nan) for key in every]
        return table_of(table)

    @own_table
    def vif(self) -> pd.DataFrame:
        """The variance inflation of every term in each block: `term`, then its comparable value (√VIF of a numeric column) a block.

        NaN before a term enters, for terms that are products, and in a block of one term. Linear models only.
        """
        names = self._terms_of_all
        table = pd.DataFrame({"term": names})
        for block, fit in zip(self.names_in_tables, self.fits, strict=True):
            if (
                not isinstance(fit, LinearFit)
                or fit.fixed_effects is not None
                or all(t.kind == "interaction" for t in fit.model_terms)
            ):
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

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> blocks = mb.fit_blocks(study, "belonging", {"who": ["age", "voice"], "taking part": ["rehearsals"]})
        >>> print(blocks.reading().statements[0].text[:60])
        `age` and `voice` (block `who`) explain 10.0% of the varianc
        """
        return self._reading

    @cached_property
    def _reading(self) -> Reading:
        return make_block_reading(self.last, self.names, self.added, self.fits, self.changes, self.steps)
