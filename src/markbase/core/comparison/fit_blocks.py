"""Entering terms block by block."""

from __future__ import annotations

from collections.abc import Collection, Container, Mapping, Sequence
from typing import Any

from markbase.core.arguments import checked
from markbase.core.comparison.blocks import AnyFit, Blocks
from markbase.core.design.fit_options import KINDS
from markbase.core.design.requested_terms import (
    Interaction,
    Polynomial,
    TermRequest,
    degrees_of,
    read_term,
    request_name,
    request_of,
    term_name,
)
from markbase.core.design.terms import Term, keys_of
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
        The blocks in the order of entry: a name, and the terms each adds to those before it. A polynomial takes the place of
        the straight line, or of the lower polynomial, that an earlier block has, also within an interaction.
    kind : str
        ``linear`` or ``logistic``.
    **settings
        As for `fit_linear` or `fit_logistic`: `level`, `errors`, `cluster`, `strata`, `weights`, `weights_are`; `fixed_effects` or `event`,
        `penalty`.

    Returns
    -------
    Blocks
        A fit for each block and the change between them: `steps`, `moves`, `movements`, `vif`, `reading`.

    Raises
    ------
    MarkbaseError
        If there is no such kind, or no block.
    FitError
        If a block is empty, a term is given twice or after a polynomial that contains it, or an interaction enters before a
        term it is made of; and whatever the fit of all terms raises.

    Notes
    -----
    The rows are those with a value in the outcome and in every term of every block, fixed before anything is fitted: no block is fitted
    on rows that a later block loses. Linear blocks are computed from the moments of the whole model, one pass for all.

    Examples
    --------
    >>> import pandas as pd
    >>> data = pd.DataFrame({"x": [1, 2, 3, 4, 5, 6] * 5, "z": [1, 0, 0, 1, 1, 0] * 5, "y": [2, 4, 5, 9, 11, 10] * 5})
    >>> hierarchy = fit_blocks(Study(data), "y", {"first": ["x"], "then": ["z"]})
    >>> hierarchy.steps[["block", "used", "r2", "r2_change"]].round(4)
       block  used      r2  r2_change
    0  first    30  0.9031     0.9031
    1   then    30  0.9625     0.0594
    """
    study = as_study(study)
    every, stages = _checked_stages(blocks, study.columns, kind)
    fit: AnyFit = (
        fit_linear(study, outcome, every, **settings)
        if kind == "linear"
        else fit_logistic(study, outcome, every, **settings)
    )
    fits: list[AnyFit] = []
    added, alone, known = list[tuple[str, ...]](), list[int](), set[str]()
    for degrees in stages:
        terms = _terms_of(fit.model_terms, degrees, stages[-1])
        fits.append(fit._with_only(terms) if keys_of(terms) < keys_of(fit.model_terms) else fit)
        added.append(tuple(t.name for t in terms if t.name not in known))
        known |= {t.name for t in terms}
        alone.append(fit._rows_for(terms))
    return Blocks(tuple(blocks), tuple(added), tuple(fits), tuple(alone))


def terms_of_blocks(
    blocks: Mapping[str, Sequence[TermRequest]], columns: Sequence[str], kind: str
) -> list[TermRequest]:
    """Return the terms of all blocks together; raises as `fit_blocks` where they are no blocks, or there is no such kind of regression."""
    return _checked_stages(blocks, columns, kind)[0]


Degrees = dict[frozenset[str], dict[str, int]]
"""The highest power of each column of a term, by the columns it is made of."""


def _checked_stages(
    blocks: Mapping[str, Sequence[TermRequest]], columns: Sequence[str], kind: str
) -> tuple[list[TermRequest], list[Degrees]]:
    if kind not in KINDS:
        raise MarkbaseError(f"There is no kind {kind!r} of regression.{near(str(kind), KINDS)}")
    if not isinstance(blocks, Mapping) or not blocks:
        raise MarkbaseError(
            'Give the blocks in order, each with its terms: {"background": ["age", "voice"], "taking part": ["rehearsals"]}.'
        )
    return _stages(blocks, columns)


def _stages(
    blocks: Mapping[str, Sequence[TermRequest]], columns: Sequence[str]
) -> tuple[list[TermRequest], list[Degrees]]:
    """Return the terms of the whole model, each where it first enters with the powers it has in the end, and those after each block."""
    stages: list[Degrees] = []
    block_of: dict[frozenset[str], str] = {}
    for name, terms in blocks.items():
        if isinstance(terms, (str, Polynomial, Interaction)) or not isinstance(terms, Collection) or not terms:
            raise FitError(f"Block `{name}` needs a list of one term or more.")
        now = dict(stages[-1]) if stages else {}
        for term in (read_term(t, columns) for t in terms):
            degrees = degrees_of(term)
            own, told = frozenset(degrees), request_name(term)
            before = now.get(own)
            if before is not None and all(degrees[n] <= before[n] for n in degrees):
                raise FitError(
                    f"The term `{told}` stands in block `{name}` twice; give it once."
                    if degrees == before and block_of[own] == name
                    else f"The term `{told}` stands in two blocks; let it enter once, where it is first needed."
                    if degrees == before
                    else f"`{term_name(before)}` contains `{told}` already; leave the latter out of block `{name}`, or let it enter before."
                )
            if before is not None and (block_of[own] == name or any(degrees[n] < before[n] for n in degrees)):
                raise FitError(
                    f"`{told}` and `{term_name(before)}` are of the same columns; leave one out of block `{name}`."
                )
            now[own], block_of[own] = degrees, name
        stages.append(now)
    whole = stages[-1]
    return [request_of(degrees) for degrees in whole.values()], stages


def _terms_of(whole: Sequence[Term], degrees: Degrees, given: Container[frozenset[str]]) -> tuple[Term, ...]:
    """Return the terms after a block, in the order of the whole model: with lower ones that were added for their interactions.

    Raises a `FitError` if an interaction enters before a term it is made of.
    """
    asked, found = list(degrees.values()), []
    for term in whole:
        own = degrees.get(frozenset(term.names))
        needed = [d for d in asked if set(term.names) < set(d)]
        if own is None and needed and frozenset(term.names) not in given:
            own = {n: max(d[n] for d in needed) for n in term.names}
        for higher in needed:
            if own is None or any(own[n] < higher[n] for n in term.names):
                raise FitError(
                    f"`{term_name(higher)}` stands in a block before `{term.name}`, which it is made of; let it enter in the same block or a later one."
                )
        if own is not None:
            found.append(term.of_degrees(tuple(own[n] for n in term.names)))
    return tuple(found)
