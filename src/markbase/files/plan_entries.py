"""What a plan can ask for, and making the fits it asks for."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from markbase.core.design.requested_terms import TermRequest, names_of
from markbase.core.study.named_alike import is_pattern
from markbase.core.study.study import Study

if TYPE_CHECKING:
    from markbase.core.comparison.blocks import Blocks
    from markbase.core.comparison.imputations import Imputations
    from markbase.core.comparison.imputed_blocks import ImputedBlocks
    from markbase.core.comparison.subgroups import Subgroups
    from markbase.core.results.linear import LinearFit
    from markbase.core.results.logistic import LogisticFit


@dataclass(frozen=True)
class FitEntry:
    """One fit of a plan."""

    name: str
    """What it is called, in the report and in file names."""
    kind: str
    """``linear`` or ``logistic``."""
    outcome: str
    """The outcome."""
    terms: tuple[TermRequest, ...]
    """Its terms; empty for an entry in blocks."""
    entry: tuple[tuple[str, tuple[TermRequest, ...]], ...] = ()
    """Its blocks, if it is entered block by block."""
    settings: Mapping[str, Any] = field(default_factory=dict)
    """The other arguments of the fit."""
    groups: tuple[str, ...] = ()
    """Groups to be told on their own."""
    correction: str = "holm"
    """Of their pairs."""
    margin: float | None = None
    """The smallest difference that would matter; None for none told."""
    subgroups: tuple[str, ...] = ()
    """Groups in each level of which it is fitted by itself as well."""
    imputation: str = ""
    """The column that numbers the imputations in each of which it is fitted; empty for none."""
    outcomes: tuple[str, ...] = ()
    """Plausible values, for each of which it is fitted; empty for none."""
    slopes: tuple[tuple[str, str], ...] = ()
    """Numeric columns whose simple slopes are told, each with its moderator or an empty text."""
    at: Mapping[str, tuple[float, ...]] = field(default_factory=dict)
    """Where numeric columns are held in them."""
    cross_validate: bool = False
    """Whether rows are held out in turn as well."""
    dominance: bool = False
    """Whether it is told what its terms, or blocks, add in every order of entry."""
    hold_out: float = 0.0
    """Which share of the rows is held out to score the fit to the others; 0 for none."""
    bootstrap: int = 0
    """Of blocks: how many samples give the intervals of what they add; 0 for none drawn."""
    seed: int = 0
    """The seed of these samples."""
    question: str = ""
    """What it is to answer, in the analyst's words."""
    table: str = "fit"
    """The table of the plan it is: ``fit``, ``blocks`` or ``imputations``."""
    number: int = 0
    """Which of those, from 0."""

    @property
    def every_term(self) -> tuple[TermRequest, ...]:
        """Its terms, those of all blocks together."""
        return (*self.terms, *(s for _, own in self.entry for s in own))

    @property
    def columns(self) -> tuple[str, ...]:
        """Every column it names."""
        names = [
            *([] if is_pattern(self.outcome) else [self.outcome]),
            *(n for s in self.every_term for n in names_of(s)),
            *self.groups,
            *self.subgroups,
        ]
        names += [*(o for o in self.outcomes if not is_pattern(o)), *([self.imputation] if self.imputation else [])]
        names += [n for pair in self.slopes for n in pair if n] + list(self.at)
        for setting in ("cluster", "strata", "time", "weights", "fixed_effects"):
            given = self.settings.get(setting) or ()
            names += [given] if isinstance(given, str) else [str(name) for name in given]
        return tuple(dict.fromkeys(names))

    @property
    def cluster(self) -> str:
        """The group by which errors are clustered, the first of two; empty for none."""
        given = self.settings.get("cluster") or ""
        return given if isinstance(given, str) else str(given[0])

    def made_from(self, study: Study) -> LinearFit | LogisticFit | Blocks:
        """Make the fit, or the blockwise entry of an entry in blocks.

        Parameters
        ----------
        study : Study
            The prepared study.

        Returns
        -------
        LinearFit, LogisticFit or Blocks
            As the function of its kind gives it.

        Raises
        ------
        MarkbaseError
            As that function.
        """
        if self.entry:
            from markbase.core.comparison.fit_blocks import fit_blocks

            blocks = {name: list(terms) for name, terms in self.entry}
            hierarchy = fit_blocks(study, self.outcome, blocks, kind=self.kind, **self.settings)
            return hierarchy.bootstrap(self.bootstrap, seed=self.seed) if self.bootstrap else hierarchy
        return self.fitted_to(study)

    def fitted_to(self, study: Study) -> LinearFit | LogisticFit:
        """Fit all its terms at once, also those of an entry in blocks."""
        from markbase.core.results.fit_linear import fit_linear
        from markbase.core.results.fit_logistic import fit_logistic

        fit: Callable[..., LinearFit | LogisticFit] = fit_linear if self.kind == "linear" else fit_logistic
        return fit(study, self.outcome, list(self.every_term), **self.settings)

    def subgroups_by(self, study: Study, by: str) -> Subgroups:
        """Fit all its terms at once in each level of a group."""
        from markbase.core.comparison.subgroups import fit_subgroups

        return fit_subgroups(study, self.outcome, list(self.every_term), by, kind=self.kind, **self.settings)

    def combined_in(self, study: Study) -> Imputations | ImputedBlocks:
        """Fit all its terms at once, or its blocks, in each imputation, or for each plausible value, and combine them."""
        from markbase.core.comparison.fit_imputations import fit_imputations, fit_imputed_blocks

        outcome = list(self.outcomes) or self.outcome
        where, chosen = self.imputation or None, {"kind": self.kind, **self.settings}
        if self.entry:
            blocks = {name: list(terms) for name, terms in self.entry}
            return fit_imputed_blocks(study, outcome, blocks, where, **chosen)
        return fit_imputations(study, outcome, list(self.every_term), where, **chosen)


@dataclass(frozen=True)
class ScreenEntry:
    """The screening of a plan."""

    terms: tuple[str, ...]
    """The columns."""
    outcome: str | None = None
    """The outcome."""
    limit_r: float | None = None
    """From which correlation a pair is flagged."""
    limit_vif: float | None = None
    """From which variance inflation factor a term is."""
    weights: str | None = None
    """With how much each row counts."""
    weights_are: str = "sampling"
    """What the weights are."""


@dataclass(frozen=True)
class DescribeEntry:
    """A sample that is described."""

    name: str
    """What it is called."""
    columns: tuple[str, ...] = ()
    """The columns; none for all that can be."""
    by: str | None = None
    """The group by whose levels."""
    weights: str | None = None
    """Sampling weights."""


@dataclass(frozen=True)
class ReliabilityEntry:
    """A scale whose items are told together."""

    name: str
    """What it is called."""
    items: tuple[str, ...]
    """The columns."""
    level: float = 0.95
    """The confidence level."""


@dataclass(frozen=True)
class CompareEntry:
    """A comparison of fits of the plan."""

    name: str
    """What it is called."""
    fits: tuple[str, ...]
    """The names of the fits; of an entry in blocks its last block."""


@dataclass(frozen=True)
class EliminationEntry:
    """Terms of a fit of the plan left out one by one."""

    name: str
    """What it is called."""
    fit: str
    """The name of the fit; of an entry in blocks its last block."""
    limit: float = 0.05
    """A term with p above it may go."""
    keep: tuple[str, ...] = ()
    """Terms that must stay."""


@dataclass(frozen=True)
class Analysis:
    """Everything a plan asks for beyond the prepared data."""

    fits: tuple[FitEntry, ...] = ()
    """The fits and the entries in blocks, in the order of the plan."""
    imputations: tuple[FitEntry, ...] = ()
    """Fits that are combined over imputations, or plausible values."""
    screen: ScreenEntry | None = None
    """The screening; None for none."""
    samples: tuple[DescribeEntry, ...] = ()
    """Descriptions of the sample."""
    scales: tuple[ReliabilityEntry, ...] = ()
    """Scales whose reliability is told."""
    comparisons: tuple[CompareEntry, ...] = ()
    """Fits side by side."""
    eliminations: tuple[EliminationEntry, ...] = ()
    """Fits whose terms are left out one by one."""
    title: str = ""
    """The title of the report."""
    figures: bool = True
    """Whether figures are drawn."""
    labels: bool = False
    """Whether tables for a manuscript call columns by their labels."""
    standardised: bool = False
    """Whether coefficients of linear regressions stand there standardised as well."""
