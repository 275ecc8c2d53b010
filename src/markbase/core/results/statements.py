"""What reading a fit gives: statements, equations and lines."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

from markbase.core.display import Shown
from markbase.core.results.fit_statistics import OverallTest


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

    def with_caution(self, *more: str) -> Statement:
        """Return the same with more cautions."""
        return replace(self, cautions=(*self.cautions, *more))


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
    term: str = ""
    """The term it belongs to; empty for the intercept."""


@dataclass(frozen=True, repr=False)
class Equation(Shown):
    """A fitted equation, complete."""

    outcome: str
    """What it gives."""
    parts: tuple[EquationPart, ...]
    """Its summands: the intercept, then every coefficient that is not a base."""
    bases: tuple[tuple[str, str], ...]
    """Each group and its base, for which no summand stands; empty where every level has one."""
    untold: str = ""
    """Why there are no summands; empty where there are."""

    @property
    def text(self) -> str:
        """The equation on one line, rounded for reading."""
        if self.untold:
            return f"{self.outcome}: {self.untold}"
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
    parallel: OverallTest | None
    """The test whether slopes differ by the group: of those in the model, or of all numeric columns if they were added."""
    overstated: str = ""
    """What robust errors that rest on few rows make of it, with a test that counts them; empty where there is no such thing."""
    crossed: tuple[str, ...] = ()
    """Groups whose differences are not the same in every line, since they are in an interaction with the group."""


@dataclass(frozen=True)
class Step:
    """One question."""

    question: str
    """What to ask."""
    answer: str
    """What this fit answers."""
    meaning: str
    """What that means for the question."""


@dataclass(frozen=True, repr=False)
class Guide(Shown):
    """Questions in reading order; print it, or take its `steps`."""

    steps: tuple[Step, ...]
    """The questions."""
