"""Whether differences are smaller than would matter, or larger: two one-sided tests against a margin.

References
----------
Hodges & Lehmann (1954), Journal of the Royal Statistical Society B 16(2), 261-268, doi:10.1111/j.2517-6161.1954.tb00169.x.
Schuirmann (1987), Journal of Pharmacokinetics and Biopharmaceutics 15(6), 657-680, doi:10.1007/BF01068419.
Lakens (2017), Social Psychological and Personality Science 8(4), 355-362, doi:10.1177/1948550617697177.
"""

from __future__ import annotations

import math

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.errors import MarkbaseError
from markbase.core.formatting import short
from markbase.core.inference.corrections import STEP_BY_STEP
from markbase.core.inference.distributions import p_of_t, t_quantile
from markbase.core.inference.multiplicity import corrected
from markbase.core.results.estimates import Estimated

Array = NDArray[np.float64]


def check_margin(margin: float, ratios: bool) -> float:
    """Return a margin on the scale of the coefficients: itself, or the logarithm of an odds ratio; refuse one that is none."""
    least = 1 if ratios else 0
    if not isinstance(margin, (int, float)) or isinstance(margin, bool) or not least < margin < math.inf:
        what = "an odds ratio above 1, such as 1.5" if ratios else "a positive number, in units of the outcome"
        raise MarkbaseError(f"The margin, the smallest difference that would matter, is {what}, not {margin!r}.")
    return math.log(margin) if ratios else float(margin)


def margin_words(fit: Estimated, margin: float) -> str:
    """Say what a margin is: so many units of the outcome, or an odds ratio."""
    if fit.family.ratios:
        return f"an odds ratio of {short(margin, 4)}"
    return f"{short(margin, 4)} {fit.outcome.step_one if margin == 1 else fit.outcome.step_many}"


def with_equivalence(table: pd.DataFrame, fit: Estimated, margin: float, correction: str) -> pd.DataFrame:
    """Add to comparisons whether each is smaller than a margin, either way, or larger.

    `inner_low` and `inner_high` end the interval of 1 − 2α that belongs to the tests; `p_smaller` is the larger p of the two one-sided
    tests, `p_larger` that of so large a difference, on either side, if it were no larger than the margin, both corrected (after Holm where differences are by a method of their own);
    `verdict` is ``smaller``, ``larger`` or ``open``.
    """
    bound = check_margin(margin, fit.family.ratios)
    size, se = np.abs(table["difference"].to_numpy()), table["se"].to_numpy()
    steps = correction if correction in (*STEP_BY_STEP, "none") else "holm"
    with np.errstate(divide="ignore", invalid="ignore"):
        near, far = ((size - edge) / se for edge in (bound, -bound))
    beyond = np.minimum(_upper(near, fit.df_rest) + _upper(far, fit.df_rest), 1.0)  # as large, on either side
    smaller, larger = (corrected(p, steps) for p in (_upper(-near, fit.df_rest), beyond))
    half = t_quantile(max(1 - 2 * fit.alpha, 0.0), fit.df_rest) * se
    verdict = np.select([smaller < fit.alpha, larger < fit.alpha], ["smaller", "larger"], "open")
    return table.assign(
        inner_low=table["difference"] - half,
        inner_high=table["difference"] + half,
        p_smaller=smaller,
        p_larger=larger,
        verdict=verdict,
    )


def _upper(t: Array, df: float) -> Array:
    """Return the upper tail of t, with its digits where it is small."""
    half = p_of_t(t, df) / 2
    return np.where(t > 0, half, 1 - half)
