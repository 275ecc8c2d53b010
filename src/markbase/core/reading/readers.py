"""The readers of a fit, brought together for `core.results.readers`."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import pandas as pd

from markbase.core.checks.clusters_left_out import without_clusters
from markbase.core.checks.heavy_cases import HeavyCase, heavy_cases
from markbase.core.checks.linear_checks import LookedOver, check_fit, look_over, views_of
from markbase.core.checks.logistic_checks import (
    calibration_of,
    calibration_test_of,
    cases_of,
    classification_of,
)
from markbase.core.checks.logistic_findings import check_logistic
from markbase.core.checks.some_rows import on_some_rows
from markbase.core.checks.spread import spread_of
from markbase.core.checks.straight_lines import Bend, bends_of, bent_lines
from markbase.core.diagnostics.calibration_test import CalibrationTest
from markbase.core.diagnostics.classification import Classification
from markbase.core.diagnostics.log_odds import LogisticChecks
from markbase.core.diagnostics.residuals import Checks, Spread, Views
from markbase.core.reading.equation import make_equation, make_lines
from markbase.core.reading.guide import make_guide
from markbase.core.reading.linear_sentences import make_reading
from markbase.core.reading.logistic_sentences import make_odds_reading
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.results.statements import Equation, Guide, Lines, Reading


class _Readers:
    """As `core.results.readers.Readers` has them."""

    def reading(self, fit: Any) -> Reading:
        return make_odds_reading(fit) if isinstance(fit, LogisticFit) else make_reading(fit)

    def guide(self, fit: Any) -> Guide:
        return make_guide(fit)

    def equation(self, fit: Any) -> Equation:
        return make_equation(fit)

    def lines(self, fit: Any, by: str) -> Lines:
        return make_lines(fit, by)

    def checks(self, fit: Any, most: int, order: Any) -> Checks:
        return check_fit(fit, most, order)

    def looked_over(self, fit: Any) -> LookedOver:
        return look_over(fit)

    def logistic_checks(self, fit: Any, most: int, order: Any) -> LogisticChecks:
        return check_logistic(fit, most, order)

    def without_clusters(self, fit: Any) -> pd.DataFrame:
        return without_clusters(fit)

    def bends(self, fit: Any) -> pd.DataFrame:
        return bends_of(fit)

    def heavy_cases(self, fit: Any) -> list[HeavyCase]:
        return heavy_cases(fit)

    def bent(self, fit: Any) -> Mapping[str, Bend]:
        return bent_lines(fit)

    def some_rows(self, fit: Any) -> AnyFit | None:
        return on_some_rows(fit)

    def spread(self, fit: Any) -> Spread:
        return spread_of(fit)

    def residual_views(self, fit: Any) -> Views:
        return views_of(fit)

    def classification(self, fit: Any, cut: float, folds: int | None, seed: int) -> Classification:
        return classification_of(fit, cut, folds, seed)

    def calibration(self, fit: Any, parts: int) -> pd.DataFrame:
        return calibration_of(fit, parts)

    def calibration_test(self, fit: Any, parts: int) -> CalibrationTest:
        return calibration_test_of(fit, parts)

    def cases(self, fit: Any, most: int | None, by: str) -> pd.DataFrame:
        return cases_of(fit, most, by)


READERS = _Readers()
