"""The same fit told from another base: the rows are not touched, and nothing is estimated again."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import ClassVar, Self

import numpy as np

from markbase.core.design.terms import Variable
from markbase.core.errors import LevelError, listed, near, quoted
from markbase.core.results.estimates import Estimated
from markbase.core.study.column import Base


@dataclass(frozen=True, eq=False, repr=False)
class Retold(Estimated):
    """An estimated regression that can be told from other bases."""

    _same_from_every_base: ClassVar[frozenset[str]] = frozenset()
    """What was worked out already and does not depend on the bases."""

    def _slot_of(self, group: Variable, level: object) -> int:
        """Return which of the levels that occur one is, by its label or code."""
        place = group.column.level_at(level)
        if place not in group.places:
            raise LevelError(
                f"No row used is `{level}` of `{group.name}`, so nothing can be compared with it.{near(str(level), group.labels)}"
            )
        return int(np.flatnonzero(group.places == place)[0])

    def rebase(self, group: str, base: object) -> Self:
        """Tell the same fit from another base. The rows are not touched, and nothing is estimated again.

        Parameters
        ----------
        group : str
            A group of the model.
        base : object
            The label or the code of the new base.

        Returns
        -------
        LinearFit or LogisticFit
            The same fit: its R² or likelihood, its fitted values and its joint tests are the same numbers, but for the tests of terms that
            are in an interaction with the group, which hold at its base. Of a saved logistic fit these are Wald's, and the likelihood ratio is NaN.

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
        >>> fit = mb.fit_linear(study, "belonging", ["age", "voice"])
        >>> fit.rebase("voice", "tenor").coefficients[["term", "level", "estimate"]].round(2)
                  term    level  estimate
        0  (intercept)              53.44
        1          age               0.23
        2        voice  soprano     -5.31
        3        voice     alto     -3.94
        4        voice    tenor      0.00
        5        voice     bass     -2.24
        """
        term = self.variable(group, "categorical")
        slot = self._slot_of(term, base)
        place = int(term.places[slot])
        column = replace(term.column, base=Base(place, "chosen when the fit was read", chosen=True))

        changed = {group: replace(term, column=column, base=slot)}
        again = replace(self, model_terms=tuple(t.with_variables(changed) for t in self.model_terms))
        again = replace(again, retold=self._retelling(again, term, place))
        again = again._tested_again(self._tested_at_base_of(term))
        again.__dict__.update({name: self.__dict__[name] for name in self._same_from_every_base & self.__dict__.keys()})
        return again

    def _tested_at_base_of(self, group: Variable) -> list[str]:
        """Name the terms that are tested at the base of a group, since they are in an interaction with it."""
        within = [set(t.names) for t in self.model_terms if group.name in t.names]
        named = [t.name for t in self.model_terms if any(set(t.names) | {group.name} <= names for names in within)]
        own = {t.name for t in self.model_terms if group.name in t.names}
        return [name for name in named if name not in own] if group.column.scheme == "indicator" else []

    def _tested_again(self, terms: Sequence[str]) -> Self:
        """Return the same with the tests of terms at the bases there are now; those of rows are worked out when they are asked for."""
        del terms
        return self

    def _retelling(self, again: Retold, term: Variable, place: int) -> str:
        """Verify that both tables start every level of a group at the same place, and say so."""
        label = term.column.levels[place].label
        held = listed(quoted(self._tested_at_base_of(term)))
        tests = f"R² or likelihood, fitted values and joint tests are the same numbers{f', but for those of {held}, which hold at the base' if held else ''}"
        words = f"from the base `{label}` of `{term.name}` instead of `{term.base_label}`; {tests}"
        if term.column.scheme != "indicator":
            return words
        starts = []
        for fit in (self, again):
            rows = zip(fit.coefficient_map.rows, fit.coefficient_rows.estimates.tolist(), strict=True)
            own = {r.compared.level: v for r, v in rows if r.term == term.name}
            starts.append(np.array([fit.coefficient_rows.estimates[0] + own[v] for v in term.labels]))
        gaps = np.abs(starts[0] - starts[1])
        known = gaps[~np.isnan(gaps)]
        if not len(known):
            return words  # one of them has no start: no row has its bases together
        each = "every level" if len(known) == len(gaps) else "the levels that can be compared"
        return f"{words} (start of {each} told by both tables: largest difference {known.max():.1e})"
