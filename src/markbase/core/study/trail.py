"""The record of what was done to a study."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

from markbase.core.display import Shown


@dataclass(frozen=True)
class TrailStep:
    """One thing that was done."""

    action: str
    """The name of the method that did it, for instance ``mark``."""
    column: str
    """The column it was done to; empty for the whole table."""
    text: str
    """What was done, in a sentence."""
    settings: Mapping[str, Any] = field(default_factory=dict)
    """The arguments, as plain values, with which it can be done again."""
    reason: str = ""
    """Why it was done, if somebody said."""


@dataclass(frozen=True, repr=False)
class Trail(Shown):
    """Everything that was done to a study, in order."""

    steps: tuple[TrailStep, ...] = ()
    """The steps, the oldest first."""

    def __iter__(self) -> Iterator[TrailStep]:
        return iter(self.steps)

    def __len__(self) -> int:
        return len(self.steps)

    def then(self, step: TrailStep) -> Trail:
        """Return a trail with one more step."""
        return Trail((*self.steps, step))
