"""The test of what one fit has more than another, on the same rows."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from markbase.core.inference.distributions import p_of_f
from markbase.core.inference.joint_tests import JointTest
from markbase.core.results.fit_statistics import OverallTest
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.results.overstated_tests import judged_p

AnyFit = LinearFit | LogisticFit


@dataclass(frozen=True)
class Change:
    """The test of the terms that a fit has more than a smaller one."""

    statistic: float
    """F, or chi-squared."""
    df: int
    """Coefficients tested."""
    df_rest: float
    """Degrees of freedom of the denominator; infinite for chi-squared."""
    p: float
    """P of as much or more if none of them had any bearing on the outcome."""
    kind: str
    """``F``, ``Wald F`` (robust or clustered errors), ``likelihood ratio``, or ``Wald``."""
    overstated: JointTest | None = None
    """Hotelling's test, where robust errors overstate Wald's F."""

    @property
    def judged_p(self) -> float:
        """The p by which sentences judge it."""
        return self.p if self.overstated is None else judged_p(self.overstated)


def change_between(smaller: AnyFit | None, larger: AnyFit) -> Change:
    """Test the terms that a fit has more than another on the same rows; None for one of no terms at all.

    With classical errors F of the change, ``((RSS₀ − RSS₁)/df)/(RSS₁/(n − p))``, or the likelihood ratio; with robust or
    clustered errors Wald's test of the added coefficients, in the larger fit.
    """
    if smaller is None:
        t = larger.overall
        kind = t.kind
        if larger.errors.middle is not None:
            kind = _wald(t)
        return Change(t.statistic, t.df, t.df_rest, t.p, kind, larger._overstated.get(""))
    more = larger.term_tests.beyond(smaller.model_terms)
    df = len(larger.solution.columns) - len(smaller.solution.columns)
    if larger.errors.middle is not None:
        wald, own = larger.inner.columns(more), np.eye(len(larger.solution.columns))[more]
        overstated = larger._overstated_among([(own, wald)])[0] if isinstance(larger, LinearFit) else None
        test = larger._as_overall(wald)
        return Change(test.statistic, test.df, test.df_rest, test.p, _wald(test), overstated)
    if isinstance(larger, LogisticFit):
        if larger.penalty:
            chi2 = float(larger.ratios.falls_of([np.eye(len(larger.solution.columns))[more]])[0])
        else:
            assert isinstance(smaller, LogisticFit)
            chi2 = max(2 * (larger.loglik - smaller.loglik), 0.0)
        return Change(chi2, df, math.inf, float(p_of_f(chi2 / df, df, math.inf)), "likelihood ratio")
    F = larger.inner.columns(more).statistic  # the same as by residual sums of squares
    return Change(F, df, larger.df_rest, float(p_of_f(F, df, larger.df_rest)), "F")


def _wald(test: OverallTest) -> str:
    return "Wald" if math.isinf(test.df_rest) else "Wald F"
