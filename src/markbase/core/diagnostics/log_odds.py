"""What was looked at in a logistic fit: straight lines in the log odds, calibration, cases, clusters."""

from __future__ import annotations

from dataclasses import dataclass

import pandas as pd

from markbase.core.diagnostics.calibration_test import CalibrationTest
from markbase.core.diagnostics.residuals import Finding
from markbase.core.display import ShownTables


@dataclass(frozen=True, eq=False, repr=False)
class LogisticChecks(ShownTables):
    """The checks of a logistic fit: none is a bare pass or fail."""

    outcome: str
    """The outcome, with its event."""
    lines: pd.DataFrame | None
    """One row a numeric column: `term`, `statistic` (chi-squared, or F, of its square, added to the model), `df_rest`, `p`, `bend` (which way the
    log odds bend), `explains` (of the deviance); None where the work would take minutes, since every column takes a fit. Of rows in parts, some in memory are looked at."""
    calibration: CalibrationTest
    """Whether probabilities are what happens, as `LogisticFit.calibration_test` tells it."""
    cases: pd.DataFrame
    """The cases that weigh most, as `LogisticFit.cases` lists them."""
    clusters: pd.DataFrame | None
    """Of each cluster the coefficient that leaving it out would move most, as of a linear fit; None without clusters, or with more than 1,000."""
    findings: tuple[Finding, ...]
    """All of it, with what it means and what would do."""
    against: str = ""
    """What the levels of each group are compared with, in words; empty without groups."""
    event: str = ""
    """The side of the outcome whose probability the cases have."""
    left_out: str = "cluster"
    """What was left out in turn: ``cluster``, or, of dyads, ``member``."""
