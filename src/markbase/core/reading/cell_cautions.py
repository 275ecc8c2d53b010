"""How few rows have the levels, or the combination of levels, that a coefficient compares."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Mapping

import numpy as np

from markbase.core.design.terms import Term
from markbase.core.errors import count_noun, listed
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.stored_fit import StoredFit
from markbase.core.study.remark import THIN_ROWS


def about_rows(fit: AnyFit, levels: Mapping[str, str], rows: int) -> list[str]:
    """Say that few rows have the levels of groups that a coefficient is about, or, where these are in an interaction, the rarest of the combinations it compares.

    Each level is compared with its base, and groups that are in an interaction with all of them stand at theirs. Combinations are looked at only
    where every group is coded by a base.
    """
    fewest, rarest = rows, dict(levels)
    for count, cell in _compared_cells(fit, levels):
        if 0 < count < fewest:  # of what an empty one tells nothing is estimated
            fewest, rarest = count, cell
    if fewest >= THIN_ROWS:
        return []
    among = "" if rarest == dict(levels) else ", one of the combinations it compares"
    return [f"Only {count_noun(fewest, 'row')} used {'has' if fewest == 1 else 'have'} {_which(rarest)}{among}."]


def not_estimated(fit: AnyFit, term: Term, level: str, levels: Mapping[str, str]) -> str:
    """Say that a coefficient about some levels of groups cannot be estimated, and which combination of levels the rows lack."""
    empty = next((cell for count, cell in _compared_cells(fit, levels) if count == 0), None)
    lacking = f"none has {_which(empty)}" if empty else "they lack a combination of levels it rests on"
    return f"`{level}` of `{term.name}` cannot be estimated from the rows used: {lacking}.{_elsewhere(fit, levels, empty or {})}"


def _elsewhere(fit: AnyFit, levels: Mapping[str, str], empty: Mapping[str, str]) -> str:
    """Name a level of the other group of a combination without rows at which a level of a group has rows, as its base has; empty if there is none."""
    if len(levels) != 1 or len(empty) != 2 or not set(levels) < set(empty):
        return ""
    ((group, level),) = levels.items()
    (other,) = set(empty) - {group}
    own, beside = (fit.variable(name, "categorical") for name in (group, other))
    counts = fit.rows_used.counts_at((group, other))
    both = np.minimum(counts[own.labels.index(level)], counts[own.base])
    return f" At another base of `{other}` it can, such as `{beside.labels[int(both.argmax())]}`." if both.max() else ""


def no_start(fit: AnyFit | StoredFit) -> str:
    """Say why an equation has no start: no row has the bases of groups that are in an interaction; and where it has one."""
    for term in fit.model_terms:
        groups = {v.name: v for v in term.groups}
        if len(groups) < 2 or any(v.column.scheme != "indicator" for v in groups.values()):
            continue
        counts = fit.rows_used.counts_at(tuple(groups))
        if counts[tuple(v.base for v in groups.values())]:
            continue
        bases = _which({name: v.base_label for name, v in groups.items()})
        most = np.unravel_index(int(counts.argmax()), counts.shape)
        some = _which({name: v.labels[int(k)] for (name, v), k in zip(groups.items(), most, strict=True)})
        told = f"none of the rows used has the bases {bases} together; the combination of most rows"
        alone = all(other is term or len(other.groups) < 2 for other in fit.model_terms)
        return f"{told}, {some}, would do as bases" if alone else f"{told} is {some}"
    return "the rows used lack a combination of levels that it rests on"


def _which(cell: Mapping[str, str]) -> str:
    return listed([f"`{group}` `{level}`" for group, level in cell.items()])


def _compared_cells(fit: AnyFit, levels: Mapping[str, str]) -> Iterator[tuple[int, dict[str, str]]]:
    """Yield the combinations of levels that a coefficient compares, each with its rows, in every interaction of groups that it is in."""
    for term in fit.model_terms:
        groups = {v.name: v for v in term.groups}
        if (
            len(groups) < 2
            or not set(levels) <= set(groups)
            or any(v.column.scheme != "indicator" for v in groups.values())
        ):
            continue
        counts = fit.rows_used.counts_at(tuple(groups))
        compared = [[v.base, *([v.labels.index(levels[name])] if name in levels else [])] for name, v in groups.items()]
        for cell in itertools.product(*compared):
            yield int(counts[cell]), {name: v.labels[k] for (name, v), k in zip(groups.items(), cell, strict=True)}
