"""What a fit must offer to be read. The readers depend on this and not on how a fit is made."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.display import Shown
from markbase.core.study.column import Column


class TermTold(Protocol):
    """A term of a fit."""

    @property
    def name(self) -> str:
        """Its name."""
        ...

    @property
    def column(self) -> Column:
        """The column it is made of."""
        ...

    @property
    def kind(self) -> str:
        """``numeric``, ``categorical``, ``slope`` or ``cross``."""
        ...

    @property
    def parts(self) -> Sequence[TermTold]:
        """The two terms of a slope by group or a crossing; empty otherwise."""
        ...

    @property
    def variables(self) -> Sequence[str]:
        """The names of the columns it is made of."""
        ...

    @property
    def is_categorical(self) -> bool:
        """Whether it is a single group."""
        ...

    @property
    def labels(self) -> Sequence[str]:
        """The labels of its levels that occur; empty for a numeric column."""
        ...

    @property
    def base_label(self) -> str:
        """The label of its base; empty for a numeric column."""
        ...


class EquationTold(Protocol):
    """A fit whose equation can be written."""

    @property
    def explained(self) -> str:
        """What the equation gives."""
        ...

    @property
    def parts(self) -> Sequence[TermTold]:
        """The terms."""
        ...

    @property
    def equation_rows(self) -> pd.DataFrame:
        """The table of coefficients with a row a level for every group."""
        ...

    @property
    def exact(self) -> bool:
        """Whether the outcome is reproduced exactly, so that errors mean nothing."""
        ...


class FitTold(Protocol):
    """A fit."""

    @property
    def outcome(self) -> Column:
        """The outcome."""
        ...

    @property
    def parts(self) -> Sequence[TermTold]:
        """The terms."""
        ...

    @property
    def coefficients(self) -> pd.DataFrame:
        """The table of coefficients."""
        ...

    @property
    def equation_rows(self) -> pd.DataFrame:
        """The table of coefficients with a row a level for every group."""
        ...

    @property
    def terms(self) -> pd.DataFrame:
        """The table of joint tests."""
        ...

    @property
    def absorbed(self) -> Sequence[str]:
        """The columns whose levels were taken out; empty for none."""
        ...

    @property
    def level(self) -> float:
        """The confidence level."""
        ...

    @property
    def alpha(self) -> float:
        """Below which p counts as clear evidence."""
        ...

    @property
    def convention(self) -> float | None:
        """The same where somebody set it; None for one less the confidence level."""
        ...

    def corrected_p(self, p: Sequence[float]) -> list[float]:
        """Correct p values of several comparisons after Holm."""
        ...

    @property
    def df_rest(self) -> float:
        """Residual degrees of freedom."""
        ...

    @property
    def outcome_sd(self) -> float:
        """Standard deviation of the outcome in the rows used."""
        ...

    @property
    def exact(self) -> bool:
        """Whether the outcome is reproduced exactly, so that errors mean nothing."""
        ...

    def spread(self, term: str) -> tuple[float, float, float]:
        """Lowest value, highest value and standard deviation of a numeric column in the rows used."""
        ...


class SampleTold(Protocol):
    """The account of the rows."""

    @property
    def rows(self) -> int:
        """Rows of the data."""
        ...

    @property
    def used(self) -> int:
        """Rows used."""
        ...

    @property
    def losses(self) -> Sequence[Any]:
        """Why others were not: each with `column`, `reason` and `rows`."""
        ...


class GuideTold(FitTold, Protocol):
    """A fit that can be gone through in order."""

    @property
    def sample(self) -> SampleTold:
        """The rows."""
        ...

    @property
    def errors_words(self) -> str:
        """What the standard errors rest on, in a few words."""
        ...

    @property
    def overall(self) -> WholeTest:
        """The test of the whole."""
        ...

    @property
    def strength(self) -> Any:
        """How much it says."""
        ...

    @property
    def event(self) -> str:
        """The event, in a logistic model."""
        ...

    def groups(self, group: str) -> pd.DataFrame:
        """Tell the levels of a group."""
        ...

    def reading(self) -> Reading:
        """Tell the fit in sentences."""
        ...


class LogisticTold(FitTold, Protocol):
    """A logistic fit."""

    @property
    def event(self) -> str:
        """The event whose odds are modelled."""
        ...

    @property
    def otherwise(self) -> str:
        """The other level of the outcome."""
        ...

    @property
    def rate(self) -> float:
        """Share of the event in the rows used."""
        ...

    @property
    def penalty(self) -> str:
        """The penalty; empty for none."""
        ...

    @property
    def overall(self) -> KindOfTest:
        """The test of the whole."""
        ...

    @property
    def marginal(self) -> pd.DataFrame:
        """Average marginal effects."""
        ...

    def groups(self, group: str) -> pd.DataFrame:
        """Tell the adjusted probabilities of the levels of a group."""
        ...

    def events_by_level(self, group: str) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Rows and events of each level of a group."""
        ...


@dataclass(frozen=True)
class Statement:
    """One sentence with what it rests on."""

    term: str
    """The term it is about; ``(intercept)`` for the start of the equation."""
    level: str
    """The level it is about; empty for a numeric column or a whole group."""
    text: str
    """The sentence."""
    cautions: tuple[str, ...] = ()
    """What must be read with it."""


@dataclass(frozen=True, repr=False)
class Reading(Shown):
    """What a fit says, a sentence a coefficient, each with its cautions."""

    statements: tuple[Statement, ...] = ()
    """The sentences, in the order of the terms."""
    cautions: tuple[str, ...] = field(default=())
    """What must be read with all of them."""


@dataclass(frozen=True)
class EquationPart:
    """One summand of an equation."""

    estimate: float
    """The coefficient at full precision."""
    shown: str
    """The coefficient as shown, without its sign."""
    factor: str
    """What it multiplies; empty for the intercept."""


class KindOfTest(Protocol):
    """A test that says which it is."""

    @property
    def kind(self) -> str:
        """``F``, ``likelihood ratio`` or ``Wald``."""
        ...


class TestTold(Protocol):
    """A test."""

    @property
    def statistic(self) -> float:
        """F, or chi-squared over its degrees of freedom."""
        ...

    @property
    def df(self) -> int:
        """Degrees of freedom."""
        ...

    @property
    def df_rest(self) -> float:
        """Those of the denominator; infinite for chi-squared."""
        ...

    @property
    def p(self) -> float:
        """Its p."""
        ...


class WholeTest(TestTold, KindOfTest, Protocol):
    """The test of all terms together."""


@dataclass(frozen=True, repr=False)
class Equation(Shown):
    """A fitted equation, complete."""

    outcome: str
    """What it gives."""
    parts: tuple[EquationPart, ...]
    """Its summands: the intercept, then every coefficient that is not a base."""
    bases: tuple[tuple[str, str], ...]
    """Each group and its base, for which no summand stands; empty where every level has one."""

    @property
    def text(self) -> str:
        """The equation on one line, rounded for reading."""
        words = f"{self.outcome} = "
        for place, part in enumerate(self.parts):
            negative = part.estimate < 0
            sign = ("−" if negative else "") if place == 0 else (" − " if negative else " + ")
            words += sign + part.shown + (f"·{part.factor}" if part.factor else "")
        return words


@dataclass(frozen=True, repr=False)
class Lines(Shown):
    """A fitted equation, one line for each level of a group."""

    outcome: str
    """What it gives."""
    by: str
    """The group."""
    lines: tuple[tuple[str, Equation], ...]
    """Each level and its equation, with no summand for the group."""
    own_slopes: tuple[str, ...]
    """Numeric columns whose slope differs by the group in this model."""
    parallel: TestTold | None
    """The test whether slopes differ by the group: of those in the model, or of all numeric columns if they were added."""
    crossed: bool = False
    """Whether the group is crossed with another, so that the lines hold at that one's base."""
