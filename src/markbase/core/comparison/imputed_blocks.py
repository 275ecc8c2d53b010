"""A blockwise entry in each of several imputations, or for each of several plausible values, and what its blocks add, combined.

References
----------
Li, Raghunathan & Rubin (1991), Journal of the American Statistical Association 86(416), 1065-1073, doi:10.1080/01621459.1991.10475152.
Harel (2009), Journal of Applied Statistics 36(10), 1109-1118, doi:10.1080/02664760802553000 (R²).
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import pandas as pd

from markbase.core.comparison.block_sentences import moved_statements, said_of_order
from markbase.core.comparison.blocks import Blocks, shares_explained
from markbase.core.comparison.combined_tables import combined_table
from markbase.core.comparison.imputation_sentences import said_of_all
from markbase.core.comparison.imputations import Imputations
from markbase.core.comparison.imputed_block_sentences import adds_statement
from markbase.core.comparison.imputed_rows import Imputed
from markbase.core.display import ShownTables
from markbase.core.errors import MarkbaseError, near
from markbase.core.inference.imputation_rules import combined_share
from markbase.core.results.fit_statistics import OverallTest
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.results.statements import Reading
from markbase.core.tables import own_table, records_of, rows_of

_MEANS = ("mcfadden", "nagelkerke", "tjur")
"""What is told of logistic regressions, as means over the imputations."""


@dataclass(frozen=True, eq=False, repr=False)
class ImputedBlocks(ShownTables):
    """The models of a blockwise entry, each combined over imputations (Rubin's rules), and what each block adds."""

    by: str
    """The column that numbers the imputations; empty for plausible values."""
    entries: Mapping[str, Blocks]
    """The blockwise entry in each imputation, in their order; of plausible values by the names of the outcomes."""
    imputed: Imputed
    """What differs between the imputations, as the rows say."""
    bases: Mapping[str, str]
    """The bases that nobody chose, by the names of their groups."""

    def __iter__(self) -> Iterator[Imputations]:
        return iter(self.fits)

    def __len__(self) -> int:
        return len(self.names)

    def __getitem__(self, block: str | int) -> Imputations:
        if isinstance(block, int):
            return self.fits[block]
        if block not in self.names:
            raise MarkbaseError(f"There is no block `{block}`.{near(block, self.names)}")
        return self.fits[self.names.index(block)]

    @property
    def entry(self) -> Blocks:
        """The first of the entries, from which is taken what is the same in all of them."""
        return next(iter(self.entries.values()))

    @property
    def names(self) -> tuple[str, ...]:
        """The blocks, in the order of entry."""
        return self.entry.names

    @property
    def added(self) -> tuple[tuple[str, ...], ...]:
        """The terms each block adds."""
        return self.entry.added

    @cached_property
    def fits(self) -> tuple[Imputations, ...]:
        """The model after each block, combined over the imputations."""
        return tuple(
            Imputations(
                self.by, {label: entry.fits[k] for label, entry in self.entries.items()}, self.imputed, self.bases
            )
            for k in range(len(self))
        )

    @property
    def last(self) -> Imputations:
        """The whole model."""
        return self.fits[-1]

    @property
    def _brief(self) -> str:
        return f"{self.last.fit.explained}, blocks {', '.join(self.names)}, {len(self.entries)} {'imputations' if self.by else 'plausible values'}"

    @property
    def logistic(self) -> bool:
        """Whether the fits are of a yes/no outcome."""
        return self.entry.logistic

    @cached_property
    def changes(self) -> tuple[OverallTest, ...]:
        """The test of each block, given those before it: of the coefficients it adds, all together, combined."""
        later = (
            fit._as_overall(fit._beyond(before.model_terms))
            for before, fit in zip(self.fits, self.fits[1:], strict=False)
        )
        return (self.fits[0].overall, *later)

    @own_table
    def steps(self) -> pd.DataFrame:
        """One row a block: what it adds.

        `block`, `added` (its terms), `parameters` (coefficients, the intercept among them), then for linear models `r2`, `r2_adjusted`, `r2_change`, `f2`,
        `residual_sd`, all combined, for logistic ones the means of `mcfadden`, `mcfadden_change`, `nagelkerke`, `tjur`; `change_lowest` and `change_highest` (the
        change of R², or of McFadden's, in single imputations); then the test of the change: `statistic` (F), `df`, `df_rest`, `p`. Where the levels of fixed
        effects are taken out, every R² is of the variation within these levels.
        """
        tests = self.changes
        return pd.DataFrame(
            {
                "block": self.names,
                "added": [", ".join(own) for own in self.added],
                "parameters": [len(fit.solution.columns) + 1 for fit in self.entry.fits],
                **(self._means() if self.logistic else self._shares()),
                "statistic": [test.statistic for test in tests],
                "df": [test.df for test in tests],
                "df_rest": [float(test.df_rest) for test in tests],
                "p": [test.p for test in tests],
            }
        )

    def _shares(self) -> dict[str, list[float]]:
        """Return what `steps` tells of linear models."""
        fits = [[fit for fit in entry.fits if isinstance(fit, LinearFit)] for entry in self.entries.values()]
        each, adjusted = (np.array(own) for own in zip(*map(shares_explained, fits), strict=True))
        r2 = [combined_share(own) for own in each.T]
        left = [float(own.mean()) for own in ((1 - adjusted) / (1 - each)).T]
        change = np.diff(r2, prepend=0.0)
        spread = np.array([[fit.strength.residual_sd for fit in own] for own in fits])
        return {
            "r2": r2,
            "r2_adjusted": [1 - (1 - now) * share for now, share in zip(r2, left, strict=True)],
            "r2_change": change.tolist(),
            **_ends(each),
            "f2": [c / (1 - now) if now < 1 else math.inf for c, now in zip(change.tolist(), r2, strict=True)],
            "residual_sd": np.sqrt(np.mean(spread**2, axis=0)).tolist(),
        }

    def _means(self) -> dict[str, list[float]]:
        """Return what `steps` tells of logistic models."""
        fits = [[fit for fit in entry.fits if isinstance(fit, LogisticFit)] for entry in self.entries.values()]
        told = {name: np.array([[getattr(f.strength, name) for f in own] for own in fits]) for name in _MEANS}
        means: dict[str, list[float]] = {name: own.mean(axis=0).tolist() for name, own in told.items()}
        change = np.diff(means["mcfadden"], prepend=0.0).tolist()
        return {"mcfadden": means.pop("mcfadden"), "mcfadden_change": change, **_ends(told["mcfadden"]), **means}

    @own_table
    def moves(self) -> pd.DataFrame:
        """How every estimate moves from block to block, combined.

        `term`, `level`, `base`, then the combined estimate in each block's model (NaN before it enters; the base is 0), called as the block.
        """
        return self._side_by_side("estimate")

    @own_table
    def errors(self) -> pd.DataFrame:
        """The combined standard errors that belong to `moves`."""
        return self._side_by_side("se")

    @property
    def names_in_tables(self) -> tuple[str, ...]:
        """What the blocks are called in `moves` and `errors`."""
        return self.entry.names_in_tables

    def _side_by_side(self, column: str) -> pd.DataFrame:
        table = self.entry.moves[["term", "level", "base"]]
        for name, fit in zip(self.names_in_tables, self.fits, strict=True):
            found = {(r["term"], r["level"]): r[column] for r in records_of(fit.coefficients)}
            own = [found.get(key, math.nan) for key in zip(table["term"], table["level"], strict=True)]
            table = table.assign(**{name: np.array(own, dtype=np.float64)})
        return table

    @own_table
    def movements(self) -> pd.DataFrame:
        """By how much each estimate moves when a block enters, combined.

        `block`, `term`, `level`, `against`, `before`, `after`, `change`, `se`, `t`, `df`, `p`, `low`, `high`; only of terms that are about the same thing before
        and after. Of a logistic entry `before` is on the scale of the larger model, in each imputation.
        """
        each = [entry.movements for entry in self.entries.values()]
        found = []
        for name, fit in zip(self.names[1:], self.fits[1:], strict=True):
            own = [table[table["block"] == name].reset_index(drop=True) for table in each]
            told = combined_table(own, "change", fit._df, fit.level)
            means = {k: np.mean([table[k] for table in own], axis=0) for k in ("before", "after")}
            found.append(told.assign(block=name, **means))
        columns = [
            "block",
            "term",
            "level",
            "against",
            "before",
            "after",
            "change",
            "se",
            "t",
            "df",
            "p",
            "low",
            "high",
        ]
        return pd.concat(found, ignore_index=True)[columns] if found else pd.DataFrame(columns=columns)

    def reading(self) -> Reading:
        """Say what each block adds, and which estimates move when it enters.

        Returns
        -------
        Reading
            Sentences with their cautions; print it, or take its `statements`.
        """
        return self._reading

    @cached_property
    def _reading(self) -> Reading:
        statements, table = [], self.movements
        steps = rows_of(self.steps)
        for k, (fit, step, terms, test) in enumerate(zip(self.fits, steps, self.added, self.changes, strict=True)):
            statements.append(adds_statement(fit, step, terms, test, first=not k))
            if k:
                before = self.fits[k - 1]
                moved = table[table["block"] == step.block]
                both = [before.coefficients, fit.coefficients]
                statements += moved_statements(step.block, before.fit, fit.fit, moved, both)
        tests = {name: test.p for name, test in zip(self.names, self.changes, strict=True)}
        return Reading(tuple(statements), (*said_of_order(self.last.fit, tests), *said_of_all(self.last)))


def _ends(each: np.ndarray) -> dict[str, list[float]]:
    """Return the smallest and the largest change in single imputations, of shares of shape (imputations, blocks)."""
    changes = np.diff(each, axis=1, prepend=0.0)
    return {"change_lowest": changes.min(axis=0).tolist(), "change_highest": changes.max(axis=0).tolist()}
