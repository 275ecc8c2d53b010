"""What terms, or blocks, add to R² in every order in which they may enter (dominance analysis).

With R²(S) of the model of a set S of k terms, a term i adds R²(S ∪ i) − R²(S) to each S without it; averaged over the sets of each
size, and these averages over the sizes, it is what i adds over all k! orders of entry (Lindeman, Merenda & Gold 1980), and
these sum to R² of the whole model.

References
----------
Lindeman, Merenda & Gold (1980), Introduction to Bivariate and Multivariate Analysis, ch. 4.
Budescu (1993), Psychological Bulletin 114(3), 542-551, doi:10.1037/0033-2909.114.3.542.
Azen & Budescu (2003), Psychological Methods 8(2), 129-148, doi:10.1037/1082-989X.8.2.129.
Azen & Traxel (2009), Journal of Educational and Behavioral Statistics 34(3), 319-347, doi:10.3102/1076998609332754 (logistic).
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.arguments import checked
from markbase.core.comparison.blocks import Blocks
from markbase.core.comparison.bootstrap import corrected_ends, drawn_words, sampled_shares
from markbase.core.comparison.term_sets import (
    added_by_size,
    averaging,
    fits_of_sets,
    r2_of_sets,
    sets_without,
    terms_of_blocks,
    terms_together,
)
from markbase.core.design.terms import Term
from markbase.core.display import ShownTables
from markbase.core.errors import FitError, NoRowsError, count_noun, listed, quoted
from markbase.core.formatting import as_percent, without_zero
from markbase.core.results.changes import AnyFit
from markbase.core.results.stored_fit import StoredFit
from markbase.core.rows.parts import in_parts
from markbase.core.tables import records_of, rows_of

Array = NDArray[np.float64]
_MOST, _MOST_SAMPLED = {"linear": 12, "logistic": 8}, {"linear": 8, "logistic": 5}
"""So many terms, or blocks, have all their sets fitted: 4,096, and 256 that are climbed; and so many in every sample."""
_NOTHING = 1e-10
"""What is a smaller share of R² is rounding."""
_MUCH = 0.25
"""By more than this share of the larger figure a place in the order matters much."""


@dataclass(frozen=True, eq=False, repr=False)
class Dominance(ShownTables):
    """What each term, or block, adds in every order of entry."""

    fit: AnyFit
    """The whole model."""
    what: str
    """``term`` or ``block``: what enters as a whole."""
    members: Mapping[str, tuple[str, ...]]
    """The terms of each block; of a term, itself and what it stands for together with."""
    measure: str
    """What is shared out: R², R² within, or McFadden's."""
    total: float
    """That of the whole model."""
    table: pd.DataFrame
    """`term` or `block`, the largest average first: `alone` (entered first), `average` (over all orders) with `low` and `high` (NaN without samples), `last`
    (entered last), `share` (the average as a share of the whole)."""
    by_size: pd.DataFrame
    """The same in the same order, what it adds on average to 0, 1, … others: columns `0`, `1`, …."""
    pairs: pd.DataFrame
    """Every two, that with the larger average first: `first`, `second`, `pattern` (``complete``: the first adds as much as the second or more to every set of the
    others; ``conditional``: on average to the sets of every size; ``general``: on average over all orders; ``none``: they add the same), `sets`
    (to how many sets it adds more), `of`, `samples` (the share of samples in which it adds more on average; NaN without)."""
    sampled: str
    """From which samples intervals are; empty for none."""
    statements: tuple[str, ...]
    """What it means here."""


@checked
def dominance(
    fit: AnyFit | Blocks, *, draws: int = 0, seed: int = 0, told: Callable[[int], None] | None = None
) -> Dominance:
    """Tell what each term adds to R² over all orders in which they may enter: which of them matter more than others.

    What a term adds depends on what stands in the model before it, and the order of entry is a choice. Terms that an interaction
    contains enter together with it, and so does what a square, a product or a sum of columns of the model was made of. Of a blockwise entry the blocks enter as wholes.

    Parameters
    ----------
    fit : LinearFit, LogisticFit or Blocks
        The model (a linear one also saved and read), of at most 12 terms or blocks, a logistic one of at most 8; on its rows and weights, whatever its errors.
    draws : int
        From how many samples of the rows (of whole clusters where errors are clustered) intervals are taken, at least 100; 0 for
        none. Then there are at most 8 terms or blocks, of a logistic model 5.
    seed : int
        The seed of the samples.
    told : callable, optional
        Told now and then how many samples are done.

    Returns
    -------
    Dominance
        `table`, `by_size`, `pairs`, `total`, `statements`; R² of a linear model (within levels that are taken out), McFadden's of a logistic one.

    Raises
    ------
    MarkbaseError
        If there are too few draws, or the seed is below 0.
    FitError
        If there are too few or too many terms, the likelihood is penalised, a linear model reproduces its outcome, or a block holds what
        another one's interaction or curve is made of; or if they explain nothing.

    Notes
    -----
    With R²(S) of a set S of the k terms, ``i`` adds ``R²(S ∪ i) − R²(S)``; the average over the sets of each size, and of these over the
    sizes, is that over all k! orders, and the averages sum to R² of the model. Intervals are bias-corrected percentiles of the averages
    in samples. No sample has an average below 0, so an end above 0 is no test.

    References
    ----------
    Lindeman, Merenda & Gold (1980), Introduction to Bivariate and Multivariate Analysis, ch. 4.
    Azen & Budescu (2003), Psychological Methods 8(2), 129-148, doi:10.1037/1082-989X.8.2.129.
    Azen & Traxel (2009), Journal of Educational and Behavioral Statistics 34(3), 319-347, doi:10.3102/1076998609332754.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> fit = mb.fit_linear(study, "belonging", ["age", "voice", "rehearsals"])
    >>> mb.dominance(fit).table[["term", "alone", "average", "last", "share"]].round(3)
             term  alone  average   last  share
    0         age  0.083    0.081  0.079  0.548
    1  rehearsals  0.049    0.048  0.047  0.324
    2       voice  0.021    0.019  0.017  0.128
    """
    if isinstance(fit, StoredFit) and (draws or fit.family.shares):
        raise NoRowsError(
            "A saved fit holds no rows of the data: samples are drawn of them, and every set of terms of a logistic model is fitted to them."
        )
    whole, what = (fit.last, "block") if isinstance(fit, Blocks) else (fit, "term")
    entering = terms_of_blocks(fit) if isinstance(fit, Blocks) else terms_together(whole.model_terms)
    kind = "logistic" if whole.family.shares else "linear"
    most = (_MOST_SAMPLED if draws else _MOST)[kind]
    names = list(entering)
    if not 2 <= len(names) <= most:
        tied = what == "term" and len(whole.model_terms) > len(names)
        way = " Terms that an interaction contains, or that another is made of, count as one with it." if tied else ""
        way += f" Enter them in fewer blocks{', or do without samples' if draws else ''}." if len(names) > most else ""
        raise FitError(
            f"Between 2 and {most} {what}s are held against one another in every order, not {len(names)}.{way}"
        )
    figures = r2_of_sets(whole, list(entering.values()))
    by_size = np.array([added_by_size(figures, k, len(names)) for k in range(len(names))])
    total, averages = float(figures[-1]), by_size.mean(axis=1)
    if not total > _NOTHING:
        raise FitError(
            f"The {what}s explain nothing of `{whole.outcome.name}` in these rows (R² is 0): there is nothing to share out."
        )
    order = np.argsort(-averages, kind="stable")
    sampled, made = _sampled(whole, entering, draws, seed, told) if draws else (np.full((1, len(names)), np.nan), "")
    ends = [corrected_ends(sampled[:, k], averages[k], whole.level) if draws else (np.nan, np.nan) for k in order]
    table = pd.DataFrame(
        {
            what: [names[k] for k in order],
            "alone": by_size[order, 0],
            "average": averages[order],
            "low": [low for low, _ in ends],
            "high": [high for _, high in ends],
            "last": by_size[order, -1],
            "share": averages[order] / total,
        }
    )
    sized = pd.DataFrame({what: table[what]} | {f"{size}": by_size[order, size] for size in range(len(names))})
    compared = list(itertools.combinations(order.tolist(), 2))
    pairs = pd.DataFrame([_pair(figures, by_size, names, a, b) for a, b in compared])
    pairs["samples"] = [float(np.mean(sampled[:, a] > sampled[:, b])) if draws else np.nan for a, b in compared]
    measure = "McFadden's R²" if whole.family.shares else "R² within" if whole.fixed_effect_names else "R²"
    members = {name: tuple(t.name for t in own) for name, own in entering.items()}
    lacking = isinstance(fit, StoredFit) or whole.fixed_effect_names or in_parts(whole.outcome.values)
    could = not lacking and len(names) <= _MOST_SAMPLED[kind]
    statements = _statements(what, measure, table, pairs, whole.level, could)
    return Dominance(whole, what, members, measure, total, table, sized, pairs, made, statements)


def _sampled(
    fit: AnyFit,
    entering: Mapping[str, tuple[Term, ...]],
    draws: int,
    seed: int,
    told: Callable[[int], None] | None,
) -> tuple[Array, str]:
    """Return the averages over all orders in every sample, shape (samples, terms), and from which samples they are."""
    shares, failed = sampled_shares(fits_of_sets(fit, list(entering.values()))[1:], draws, seed, told)
    figures = np.hstack([np.zeros((len(shares), 1)), shares])
    left = f" ({failed:,} left out: a model could not be fitted)" if failed else ""
    words = f"{draws:,} samples of {drawn_words(fit)} drawn with replacement{left}, bias-corrected, seed {seed}"
    return figures @ averaging(len(entering)).T, words


def _pair(figures: Array, by_size: Array, names: Sequence[str], a: int, b: int) -> dict[str, object]:
    """Hold one against another that adds no more on average."""
    sets = sets_without([a, b], len(names))
    more = figures[sets | 1 << a] - figures[sets | 1 << b]
    nothing = _NOTHING * figures[-1]
    averages = by_size[a] - by_size[b]
    if averages.mean() <= nothing:
        pattern = "none"
    elif more.min() >= -nothing:
        pattern = "complete"
    else:
        pattern = "conditional" if averages.min() >= -nothing else "general"
    return {
        "first": names[a],
        "second": names[b],
        "pattern": pattern,
        "sets": int(np.count_nonzero(more > nothing)),
        "of": len(sets),
    }


def _statements(
    what: str, measure: str, table: pd.DataFrame, pairs: pd.DataFrame, level: float, samples: bool
) -> tuple[str, ...]:
    """Say which adds most whatever stands in the model, and where that depends on it."""
    records, told = records_of(table), list[str]()
    name = records[0][what]
    rivals = [r for r in rows_of(pairs[pairs["first"] == name]) if r.pattern != "complete"]
    if len(records) == 2 and not rivals:
        told.append(f"`{name}` adds more than `{records[1][what]}`, entered first or last (complete dominance).")
    elif not rivals:
        told.append(
            f"`{name}` adds most, whichever of the others stand in the model: to every set of them as much as each of the rest or more "
            f"(complete dominance)."
        )
    elif all(r.pattern == "none" for r in rivals):
        told.append(
            f"`{name}` and {listed(quoted([r.second for r in rivals]))} add the same on average over all orders."
        )
    else:
        words = [f"than `{r.second}` to {r.sets:,} of {count_noun(r.of, 'set')} of the others" for r in rivals[:3]]
        told.append(f"`{name}` adds most on average over all orders, but not to every set: more {listed(words)}.")
    close = [r for r in rows_of(pairs[pairs["first"] == name]) if r.samples < level]
    if close:
        shares = listed([as_percent(r.samples) for r in close[:3]])
        told.append(
            f"That `{name}` adds more than {listed(quoted([r.second for r in close[:3]]))} may be chance: on average over all orders it does in "
            f"{shares} of the samples."
        )
    moved = max(records, key=lambda r: abs(r["alone"] - r["last"]))
    first, last = moved["alone"], moved["last"]
    if abs(first - last) > _MUCH * max(first, last):
        how = (
            f"{'much' if last < first / 2 else 'part'} of it is shared with the others, and which of them it is credited to is a matter of the order"
            if first > last
            else "it tells more beside the others than by itself (suppression)"
        )
        told.append(
            f"The order matters most for `{moved[what]}`: entered first it adds {without_zero(first)}, entered last {without_zero(last)}; {how}."
        )
    sampled = bool(table["low"].notna().any())
    without = "and no tests" if sampled else "without tests or intervals"
    open_left = "; how sure their order is, samples tell (bootstrap)" if samples and not sampled else ""
    told.append(
        f"These are shares of {measure} in these rows {without}: a term that varies less here adds less, and what goes together with the outcome need not "
        f"change it{open_left}."
    )
    return tuple(told)
