"""Rules of thumb, as settings: bands to look at, never tests."""

from __future__ import annotations

from dataclasses import dataclass

from markbase.core.errors import MarkbaseError

R_IN_USE = (0.5, 0.7, 0.75, 0.9)
"""Limits of |r| that are in use."""
VIF_IN_USE = (3.0, 5.0, 10.0)
"""Limits of the variance inflation factor that are in use."""


@dataclass(frozen=True)
class Limits:
    """Where a value is flagged for a second look. None of these is a test."""

    r: float = 0.7
    """Correlation of two predictors, in size; 0.5, 0.7, 0.75 and 0.9 are in use."""
    vif: float = 5.0
    """Variance inflation factor; 3, 5 and 10 are in use. A group's comparable value is held against its root."""
    index: float = 30.0
    """Condition index (Belsley, Kuh & Welsch 1980)."""
    share: float = 0.5
    """Variance share at such an index."""

    def __post_init__(self) -> None:
        if not 0 < self.r < 1:
            raise MarkbaseError(f"The limit of |r| is {self.r!r}; it must lie between 0 and 1, for instance 0.7.")
        if not self.vif > 1:
            raise MarkbaseError(
                f"The limit of the variance inflation factor is {self.vif!r}; it must be above 1, for instance 5."
            )
        if not self.index > 1 or not 0 < self.share < 1:
            raise MarkbaseError(
                "A condition index is above 1 and a variance share between 0 and 1, for instance 30 and 0.5."
            )
