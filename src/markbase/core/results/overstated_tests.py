"""Joint tests by robust errors that are clear, and would not be if it counted how few rows they rest on."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from markbase.core.estimation.least_squares_solution import Solution
from markbase.core.inference.distributions import p_of_f
from markbase.core.inference.hotelling import hotelling_tests
from markbase.core.inference.joint_tests import JointTest
from markbase.core.inference.standard_errors import Errors, Over

Array = NDArray[np.float64]


def judged_p(test: JointTest) -> float:
    """Return the p of a test; 1 of one that cannot be made."""
    return 1.0 if test.untested else float(p_of_f(test.statistic, test.df, test.df_rest))


def overstated_among(
    solution: Solution, errors: Errors, over: Over, alpha: float, wald: Sequence[tuple[Array, JointTest]]
) -> list[JointTest | None]:
    """Return Hotelling's test in place of each that is overstated, None for each other.

    Each comes with its combinations of the inner coefficients, shape (m, p). One is overstated if its p is below `alpha`, and not as Hotelling's.
    """
    found: list[JointTest | None] = [None] * len(wald)
    tested = [k for k, (_, test) in enumerate(wald) if test.df > 1 and math.isfinite(test.statistic)]
    clear = [k for k in tested if judged_p(wald[k][1]) < alpha]
    if clear:
        tests = hotelling_tests(solution, errors, over, [wald[k] for k in clear])
        for k, test in zip(clear, tests, strict=True):
            found[k] = test if judged_p(test) >= alpha else None
    return found
