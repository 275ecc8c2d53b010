"""What is read from a fit by the rooms above it: sentences, equations, the guide, and checks.

A fit offers them as methods, and the rooms that make them stand above it. The package's `__init__` hands over a loader, as it
does for what draws, so that imports point downward and a fit can be made without any of it.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any, Protocol

if TYPE_CHECKING:
    import pandas as pd

    from markbase.core.diagnostics.calibration_test import CalibrationTest
    from markbase.core.diagnostics.classification import Classification
    from markbase.core.diagnostics.log_odds import LogisticChecks
    from markbase.core.diagnostics.residuals import Checks, Spread, Views
    from markbase.core.results.statements import Equation, Guide, Lines, Reading


class Readers(Protocol):
    """What the rooms above a fit make of it."""

    def reading(self, fit: Any) -> Reading:
        """Say what each coefficient means."""
        ...

    def guide(self, fit: Any) -> Guide:
        """Go through the fit in order."""
        ...

    def equation(self, fit: Any) -> Equation:
        """Write the equation."""
        ...

    def lines(self, fit: Any, by: str) -> Lines:
        """Write the equation of each level of a group."""
        ...

    def checks(self, fit: Any, most: int, order: Any) -> Checks:
        """Check a linear fit."""
        ...

    def looked_over(self, fit: Any) -> Any:
        """Return what the checks find in the residuals of a linear fit, whatever the bases."""
        ...

    def logistic_checks(self, fit: Any, most: int, order: Any) -> LogisticChecks:
        """Check a logistic fit."""
        ...

    def without_clusters(self, fit: Any) -> pd.DataFrame:
        """Tell every coefficient without each cluster."""
        ...

    def bends(self, fit: Any) -> pd.DataFrame:
        """Test the square of each numeric column, added to a fit."""
        ...

    def bent(self, fit: Any) -> Mapping[str, Any]:
        """Return the numeric columns whose line clearly bends, by so much that it matters."""
        ...

    def heavy_cases(self, fit: Any) -> Any:
        """Return the rows that decide alone what is told of a coefficient."""
        ...

    def some_rows(self, fit: Any) -> Any:
        """Return the same model on some of very many rows, in memory; None where that cannot be had."""
        ...

    def spread(self, fit: Any) -> Spread:
        """Test whether the residuals of a linear fit spread unevenly."""
        ...

    def residual_views(self, fit: Any) -> Views:
        """Return what a figure of residuals draws."""
        ...

    def classification(self, fit: Any, cut: float, folds: int | None, seed: int) -> Classification:
        """Classify the rows of a logistic fit."""
        ...

    def calibration(self, fit: Any, parts: int) -> pd.DataFrame:
        """Compare probabilities with what happened."""
        ...

    def calibration_test(self, fit: Any, parts: int) -> CalibrationTest:
        """Test whether probabilities are what happens."""
        ...

    def cases(self, fit: Any, most: int | None, by: str) -> pd.DataFrame:
        """List the cases of a logistic fit that weigh most."""
        ...


_loader: Callable[[], Readers] | None = None


def set_readers(loader: Callable[[], Readers]) -> None:
    """Say where the readers come from; called without arguments whenever something is read."""
    global _loader
    _loader = loader


def readers() -> Readers:
    """Return the readers."""
    if _loader is None:
        raise RuntimeError("no readers are set; import markbase")  # a defect of ours: the package sets them
    return _loader()
