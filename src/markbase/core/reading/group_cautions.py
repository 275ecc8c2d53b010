"""Cautions about the levels of a group, the same in every kind of model."""

from __future__ import annotations

from typing import Any

import pandas as pd

from markbase.core.design.terms import Term
from markbase.core.errors import count_noun, listed, quoted
from markbase.core.formatting import p_phrase
from markbase.core.results.any_fit import AnyFit
from markbase.core.study.remarks import THIN_ROWS


def about_levels(fit: AnyFit, term: Term, row: pd.Series[Any]) -> list[str]:
    """Say what must be known of the levels that a coefficient compares.

    Parameters
    ----------
    fit : AnyFit
        The fit.
    term : Term
        The group.
    row : pandas.Series
        The row of the coefficient.

    Returns
    -------
    list of str
        That a level is thin, undeclared or a mixture, and that its difference does not survive the correction for
        all comparisons of the group.
    """
    cautions, level = [], str(row["level"])
    if row["n"] < THIN_ROWS:
        cautions.append(f"Only {count_noun(int(row['n']), 'row')} used {'is' if row['n'] == 1 else 'are'} `{level}`.")
    known = {v.label: v for v in term.column.levels}
    if not known[level].declared:
        cautions.append(f"`{level}` is not a level of the codebook; if it is a misspelling, mend it before reading on.")
    for label in (level, str(row["against"])):
        mixture = known[label].mixture if label in known else ()
        if mixture:
            cautions.append(
                f"`{label}` is a mixture of {listed(quoted(mixture))}; the difference is an average over them."
            )
    rows = fit.coefficients
    own = rows[(rows["term"] == term.name) & ~rows["base"]]
    if len(own) > 1 and row["p"] < fit.alpha:
        together = dict(zip(own["level"], fit.corrected_p(own["p"].tolist()), strict=True))[level]
        if together >= fit.alpha:
            cautions.append(
                f"Among the {len(own)} comparisons of `{term.name}` together it is not clear (corrected after Holm, {p_phrase(together)})."
            )
    return cautions


def about_base(fit: AnyFit, term: Term, rows: pd.DataFrame) -> list[str]:
    """Say what must be known of the base of a group.

    Parameters
    ----------
    fit : AnyFit
        The fit.
    term : Term
        The group.
    rows : pandas.DataFrame
        Its rows of the table of coefficients.

    Returns
    -------
    list of str
        That it is thin, was not chosen, or was chosen by looking at the outcome.
    """
    cautions = []
    base, label = term.column.base, term.base_label
    n = int(rows.loc[rows["base"], "n"].iloc[0])
    if n < THIN_ROWS:
        cautions.append(f"The base `{label}` has only {count_noun(n, 'row')}, so every comparison with it is wide.")
    if base is None or not base.chosen:
        cautions.append(
            f"The base `{label}` was not chosen: it is the largest level. Mark the one your question needs."
        )
    elif base.looked_at and base.looked_at in (fit.outcome.name, *(fit.outcome.made.of if fit.outcome.made else ())):
        cautions.append(
            f"The base `{label}` was chosen by looking at the outcome: differences from it come out larger than they are, and "
            f"their p values too small."
        )
    return cautions
