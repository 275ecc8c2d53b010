"""What is shown, before it is text or HTML: one description, so that both say the same."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass, field
from typing import Literal

LEVEL_INDENT = "  "
"""Before the label of a level under the heading of its group."""
_TOGETHER = re.compile(r"\w²?\([\d.,]+, [\d.,]+\)| [=<>] (?=[.\d])|R² (?=\.)")
"""A statistic with its two degrees of freedom; a sign and the number behind it; R² and its value."""
RowKind = Literal["plain", "base", "group", "aside"]


def kept_together(text: str, space: str) -> str:
    """Put another space where no line is to be broken: within `F(3, 1,862) = 4.21` and `p = .020`."""
    return _TOGETHER.sub(lambda found: found[0].replace(" ", space), text)


@dataclass(frozen=True)
class Strip:
    """An interval to be drawn on a scale that includes 0."""

    low: float
    """Lower end of the interval."""
    middle: float
    """The estimate."""
    high: float
    """Upper end of the interval."""
    left: float
    """Where the scale begins."""
    right: float
    """Where the scale ends."""
    is_base: bool = False
    """Whether this is the base, which is 0 by definition."""
    mark: float = 0.0
    """What is marked across all strips of a table: 0, or a limit. A strip with a limit is a bar that ends at `middle`."""


@dataclass(frozen=True)
class Row:
    """One row of a table."""

    cells: tuple[str, ...]
    """The texts."""
    kind: RowKind = "plain"
    """``base`` and ``group`` rows are set apart by more than colour; ``aside`` rows are quieter."""
    strip: Strip | None = None
    """What is drawn at its end; nothing of numbers that are not known."""

    def __post_init__(self) -> None:
        """Draw nothing where a number is not known."""
        strip = self.strip
        if strip is not None and not all(
            map(math.isfinite, (strip.low, strip.middle, strip.high, strip.left, strip.right))
        ):
            object.__setattr__(self, "strip", None)


@dataclass(frozen=True)
class Table:
    """A table."""

    heads: tuple[str, ...]
    """What stands above the columns."""
    rows: tuple[Row, ...]
    """The rows."""
    right: frozenset[int] = frozenset()
    """Which columns hold numbers and stand to the right."""
    wide: int = 0
    """Which column may be folded over several lines."""
    strip_head: str = ""
    """What stands above the drawings; empty if there are none."""


@dataclass(frozen=True)
class Facts:
    """Short labels with a text each."""

    pairs: tuple[tuple[str, str], ...]
    """Label and text."""


@dataclass(frozen=True)
class Sentences:
    """Sentences with the cautions that belong to them."""

    lines: tuple[tuple[str, tuple[str, ...]], ...]
    """Sentence and cautions."""


@dataclass(frozen=True)
class Formula:
    """An equation, as parts that stay whole when a line is broken."""

    parts: tuple[str, ...]
    """Its parts in order."""


@dataclass(frozen=True)
class Picture:
    """A figure that is drawn."""

    svg: str
    """It, as an element."""
    caption: str
    """What it shows."""


@dataclass(frozen=True)
class Drawing:
    """A figure beside what it shows; text leaves it out."""

    pictures: tuple[Picture, ...]
    """The figure; one for each version of a page."""


Block = Table | Facts | Sentences | Formula | Drawing


@dataclass(frozen=True)
class Section:
    """A heading with what stands below it."""

    title: str
    """The heading; empty for none."""
    note: str = ""
    """What is said beside the heading."""
    blocks: tuple[Block, ...] = ()
    """What stands below."""
    folded: bool = False
    """Whether only a specialist wants it: in HTML it is opened by a click."""


@dataclass(frozen=True)
class Page:
    """A whole result."""

    title: str
    """What it is."""
    subtitle: str = ""
    """What it is about."""
    sections: tuple[Section, ...] = field(default=())
    """Its parts in reading order."""
