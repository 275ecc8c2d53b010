"""Joint tests by robust errors taken as Hotelling's, on degrees of freedom that are told from the rows.

Robust errors rest on as many squared scores as there are rows. Where these are few for the coefficients that are tested together, or few of
them weigh most, Wald's F is clear too often. Its matrix V, in the coordinates in which it is the identity, is a sum of e²gg′ over the rows, of
which the entries vary by 2Σσ⁴(gₛgₜ)²: it is then taken as a Wishart matrix on the d degrees of freedom that vary as much.

References
----------
Pustejovsky & Tipton (2018), Journal of Business & Economic Statistics 36(4), 672-683, doi:10.1080/07350015.2016.1247004, of which
this is the approximate Hotelling's test with every row a cluster, and with σ⁴ from the rows (a third of e⁴, as for a normal error) in place of
a working model.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np
from numpy.typing import NDArray

from markbase.core.estimation.least_squares_solution import Solution
from markbase.core.inference.joint_tests import JointTest, unit_directions
from markbase.core.inference.standard_errors import ALONE, Errors, Over, ScoredRows

Array = NDArray[np.float64]
_ROOM = {"HC0": 0, "HC1": 0, "HC2": 1, "HC3": 2}
"""By which power of 1 − h squared scores are divided."""
_NORMAL = 3.0
"""E(e⁴)/σ⁴ of a normal error."""


def hotelling_tests(
    solution: Solution, errors: Errors, over: Over, wald: Sequence[tuple[Array, JointTest]]
) -> list[JointTest]:
    """Return Wald's tests by robust errors as Hotelling's, in one pass over the rows.

    Each test comes with its combinations of the inner coefficients, shape (m, p), and is not untested. With r coefficients
    d = r(r + 1)/(⅔Σ|g|⁴e⁴) and F·(d − r + 1)/d goes on r and d − r + 1; untested where the rows are worth too few for it.
    """
    directions = [unit_directions(solution, combinations, errors) for combinations, _ in wald]
    side_by_side = np.hstack(directions)
    starts = np.cumsum([0, *(d.shape[1] for d in directions[:-1])])

    def of_part(rows: Iterator[ScoredRows]) -> tuple[Array, Array]:
        squares, fourths = np.zeros(len(wald)), np.zeros(len(wald))
        for _, Q, score, leverage, _, times in rows:
            room = 1 - leverage
            weight = np.where(room < ALONE, 0.0, score**2 / np.maximum(room, ALONE) ** _ROOM[errors.kind])
            own = weight[:, None] * np.add.reduceat((Q[:, 1:] @ side_by_side) ** 2, starts, axis=1)
            count = np.ones(len(own)) if times is None else times
            squares += count @ own
            fourths += count @ own**2
        return squares, fourths

    squares, fourths = (sum(parts) for parts in zip(*over(of_part), strict=True))
    told = []
    for (_, test), square, fourth in zip(wald, squares, fourths, strict=True):
        r = test.df
        d = r * (r + 1) / (2 / _NORMAL * fourth * (r / square) ** 2)  # the squares sum to r, but for what HC1 adds
        rest = d - r + 1
        if rest > 0:
            told.append(JointTest(test.statistic * rest / d, r, rest))
        else:
            told.append(JointTest(np.nan, r, untested=f"squared residuals are worth about {d:.0f} degrees of freedom"))
    return told
