"""Entering terms block by block."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from markbase.core.arguments import checked
from markbase.core.comparison.blocks import AnyFit, Blocks, cumulative
from markbase.core.design.options import KINDS
from markbase.core.design.requested_terms import Interaction, Polynomial, TermRequest, request_name
from markbase.core.errors import FitError, MarkbaseError, near
from markbase.core.results.fit_linear import fit_linear
from markbase.core.results.fit_logistic import fit_logistic
from markbase.core.study.frames import AnyTable
from markbase.core.study.study import Study, as_study


@checked
def fit_blocks(
    study: Study | AnyTable,
    outcome: str,
    blocks: Mapping[str, Sequence[TermRequest]],
    *,
    kind: str = "linear",
    **settings: Any,
) -> Blocks:
    """Fit a regression block by block, every block on the same rows.

    Parameters
    ----------
    study : Study, or a table
        The data, with the base of each group marked. A table (pandas, Polars, Arrow, DuckDB) is taken as a study without a
        codebook: what its columns are is guessed, and the largest level of a group is its base.
    outcome : str
        The name of the outcome.
    blocks : mapping of str to sequence of str, Polynomial or Interaction
        The blocks in the order of entry: a name, and the terms each adds to those before it.
    kind : str
        ``linear`` or ``logistic``.
    **settings
        As for `fit_linear` or `fit_logistic`: `level`, `errors`, `cluster`, `weights`, `weights_are`; `fixed_effects` or `event`,
        `penalty`.

    Returns
    -------
    Blocks
        A fit for each block and the change between them: `steps`, `moves`, `variance_inflation`, `reading`.

    Raises
    ------
    MarkbaseError
        If there is no such kind, or no block.
    FitError
        If a block is empty or a term is given twice; and whatever the fit of all terms raises.

    Notes
    -----
    The rows are those with a value in the outcome and in every term of every block, fixed before anything is fitted: no block is fitted
    on rows that a later block loses. Linear blocks are computed from the moments of the whole model, one pass for all.

    Examples
    --------
    >>> import pandas as pd
    >>> data = pd.DataFrame({"x": [1, 2, 3, 4, 5, 6] * 5, "z": [1, 0, 0, 1, 1, 0] * 5, "y": [2, 4, 5, 9, 10, 11] * 5})
    >>> hierarchy = fit_blocks(Study(data), "y", {"first": ["x"], "then": ["z"]})
    >>> hierarchy.steps[["block", "used", "r2", "r2_change"]].round(4)
       block  used      r2  r2_change
    0  first    30  0.9595     0.9595
    1   then    30  0.9809     0.0214
    """
    study = as_study(study)
    if kind not in KINDS:
        raise MarkbaseError(f"There is no kind {kind!r} of regression.{near(str(kind), KINDS)}")
    if not isinstance(blocks, Mapping) or not blocks:
        raise MarkbaseError(
            'Give the blocks in order, each with its terms: {"background": ["age", "voice"], "taking part": ["rehearsals"]}.'
        )
    every: list[TermRequest] = []
    block_of: dict[str, str] = {}
    for name, terms in blocks.items():
        if isinstance(terms, (str, Polynomial, Interaction)) or not terms:
            raise FitError(f"Block `{name}` needs a list of one term or more.")
        for term in terms:
            told = request_name(term)
            if told in block_of:
                raise FitError(f"The term `{told}` stands in two blocks; let it enter once, where it is first needed.")
            every.append(term)
            block_of[told] = name
    fit: AnyFit = (
        fit_linear(study, outcome, every, **settings)
        if kind == "linear"
        else fit_logistic(study, outcome, every, **settings)
    )
    added: dict[str, tuple[str, ...]] = {}
    waiting: list[str] = []  # lower terms that were added enter with the interaction that needs them
    for t in fit.model_terms:
        waiting.append(t.name)
        if t.name in block_of:
            added[block_of[t.name]] = (*added.get(block_of[t.name], ()), *waiting)
            waiting = []
    added = {name: added[name] for name in blocks if name in added}
    _check_order(fit, added)
    return climb(fit, tuple(added), tuple(added.values()))


def _check_order(fit: AnyFit, added: Mapping[str, Sequence[str]]) -> None:
    """Refuse an interaction that enters before a term it is made of."""
    place = {name: k for k, terms in enumerate(added.values()) for name in terms}
    for term in fit.model_terms:
        for lower in fit.model_terms:
            if set(lower.names) < set(term.names) and place[lower.name] > place[term.name]:
                raise FitError(
                    f"`{term.name}` stands in a block before `{lower.name}`, which it is made of; let it enter in the same block or a later one."
                )


def climb(fit: AnyFit, names: tuple[str, ...], added: tuple[tuple[str, ...], ...]) -> Blocks:
    """Make a blockwise entry of the terms of a fit, which are those of all blocks, on its rows."""
    fits: list[AnyFit] = []
    alone = []
    for terms in cumulative(added):
        fits.append(fit if len(terms) == len(fit.model_terms) else fit.only(terms))
        alone.append(fit.rows_for(terms))
    return Blocks(names, added, tuple(fits), tuple(alone))
