"""Wholes and their parts, though nobody says so: an outcome that is the sum or mean of columns, a total beside one of its items."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.shared import ROUNDING, Shared, rounding_room
from markbase.core.errors import listed, quoted
from markbase.core.rows.row_functions import all_of, learn, sample_of, sum_of
from markbase.core.study.column import Column

_MOST_PARTS, _ROWS, _SPREAD = 200, 256, 4
"""Columns that are tried as parts of a whole, the rows of a first glance at these, and how many times as many are tried for complete ones."""
_LEFT, _APART = 0.05, 0.2
"""What rounding may leave of a whole, in its standard deviations; how far weights of parts, in their mean, may differ, and others from 0."""
_LARGEST = 1e100
"""Beyond it squares cannot be written."""
_FEWEST_ROWS = 10
"""Rows beyond one for each column that tell a whole."""
_MOST_TERMS, _MOST_COLUMNS, _TOGETHER, _FEWEST = 60, 100, 0.25, 30
"""So many terms, and columns of the data, are looked through for parts of one another; what correlates less in a first glance at no fewer rows is not."""


class Parts(NamedTuple):
    """The columns of which another is the sum or the mean."""

    how: str
    """`sum` or `mean`."""
    names: tuple[str, ...]
    """What they are called."""
    turned: bool
    """Whether some count the other way round."""

    @property
    def words(self) -> str:
        """What the whole is, as a phrase."""
        told = quoted(self.names)
        many = [*told[:4], f"{len(told) - 4} more"] if len(told) > 5 else told
        return f"the {self.how} of {listed(many)}{' (some the other way round)' if self.turned else ''}"


def by_parts(outcome: Column, terms: Iterable[Column], columns: Sequence[Column]) -> list[Shared]:
    """Say that an outcome is the sum or mean of columns in every row, of which a term is one, or is made of some as well, though nobody says so.

    A whole may be rounded. Columns that a preparing step made are told by how they were made. More than 200 columns are not looked through; nor is a whole all of whose parts
    are terms, which a fit without residuals tells.
    """
    terms, columns = ([c for c in some if not c.is_categorical and c.made is None] for some in (terms, columns))
    if outcome.is_categorical or outcome.made is not None or not 0 < len(terms) < len(columns) <= _MOST_PARTS:
        return []
    found = parts_of(outcome, columns)
    if found is None or {t.name for t in terms} >= set(found.names):
        return []
    told = []
    for term in terms:
        if term.name in found.names:
            shares = f"`{term.name}`, which is in the model, is one of them"
            way = f"What it has to do with the others is told with their {found.how} as the outcome."
        else:
            own = parts_of(term, [c for c in columns if c.name != term.name])
            shared = [name for name in own.names if name in found.names] if own else []
            if not shared:
                continue
            shares = f"so is `{term.name}`, which is in the model, of {listed(quoted(shared))} among others"
            shares = shares if own and set(own.names) > set(shared) else shares.removesuffix(" among others")
            way = "What else they have in common is told once what they share is left out of one of them."
        text = (
            f"`{outcome.name}` is {found.words} in every row that has all of these, and {shares}: the two go together by construction, and in "
            f"part that is what their figures say. {way}"
        )
        told.append(Shared(term.name, text))
    return told


def parts_of(whole: Column, columns: Sequence[Column]) -> Parts | None:
    """Return of which columns another is the sum or the mean, two or more of them, perhaps rounded, in every row that has all; None if of none.

    Of columns that are nearly combinations of columns before them, the later ones are passed over: in the order given, from the last
    on, and with those of few values first.
    """
    if whole.is_categorical:
        return None
    columns = [c for c in columns if 2 * c.valid > whole.valid and max(map(abs, c.span)) < _LARGEST]
    there = len(sample_of(whole.values))
    rows = np.linspace(0, there - 1, min(there, _SPREAD * _ROWS)).astype(np.intp)
    block = np.column_stack([sample_of(c.values)[rows] for c in (whole, *columns)])
    block = block[~np.isnan(block).any(axis=1)][:_ROWS]
    if len(block) < len(columns) + 2 * _FEWEST_ROWS:
        return None
    block -= block.mean(axis=0)
    sizes = np.sqrt(np.mean(block**2, axis=0))
    varying = np.flatnonzero(sizes[1:] > 0) + 1
    if not sizes[0] or not np.isfinite(sizes).all():
        return None
    for turn in range(3):
        order = varying[::-1] if turn == 1 else varying
        if turn == 2:  # items of a scale have few values, what is made of them has more
            order = varying[np.argsort([len(np.unique(block[:, k])) for k in varying], kind="stable")]
        unit = block[:, [*order, 0]] / sizes[[*order, 0]]
        apart = np.abs(np.diag(np.linalg.qr(unit, mode="r"))) > _LEFT * np.sqrt(len(block))
        if apart[-1]:  # something of it is left
            return None
        kept = order[apart[:-1]]
        weights = np.linalg.lstsq(block[:, kept], block[:, 0], rcond=None)[0]
        found = _as_parts(whole, [columns[int(k) - 1] for k in kept], weights)
        if found is not None:
            how, parts, turned = found
            return Parts(how, tuple(c.name for c in columns if c in parts), turned)
    return None


def _as_parts(
    whole: Column, columns: Sequence[Column], weights: NDArray[np.float64]
) -> tuple[str, list[Column], bool] | None:
    """Read weights as those of a sum or a mean, held against all rows; None if they are neither."""
    largest = np.abs(weights).max()
    members = np.flatnonzero(np.abs(weights) > largest / 2)
    size = np.abs(weights[members]).mean()
    far = np.abs(np.abs(weights) - size * np.isin(np.arange(len(weights)), members))
    if len(members) < 2 or far.max() > _APART * size:
        return None
    how, weight = min((("sum", 1.0), ("mean", 1 / len(members))), key=lambda pair: abs(pair[1] - size))
    parts, signs = [columns[int(k)] for k in members], np.sign(weights[members])
    widths = [c.span[1] - c.span[0] for c in (whole, *parts)]
    turned = bool((signs < 0).any())
    if turned and (len(parts) == 2 or (how == "sum" and max(widths[1:]) >= widths[0])):
        return None  # a change, or what a sum leaves for one of its parts
    rows = all_of([c.present for c in (whole, *parts)])
    values = whole.values[rows]
    made = weight * sum_of([sign * c.values[rows] for sign, c in zip(signs, parts, strict=True)])
    for own, total in ((sample_of(values), sample_of(made)), (values, made)):  # of rows in parts, those in memory first
        off = own - total
        learn(numbers=[off, total])
        constant = (off.max() + off.min()) / 2 if turned else 0.0
        largest = max(abs(total.min()), abs(total.max()))
        if np.any(np.abs(off - constant) > rounding_room(own) + ROUNDING * (np.abs(own) + largest)):
            return None
    return how, parts, turned


def among_terms(terms: Iterable[Column], columns: Sequence[Column]) -> list[Shared]:
    """Say that a term is the sum or mean of columns of the data of which another term is one, or the sum or mean of some.

    Columns that a preparing step made are told by how they were made. Of terms that hardly correlate nothing is asked.
    """
    terms, columns = ([c for c in some if not c.is_categorical and c.made is None] for some in (terms, columns))
    if not 2 <= len(terms) <= _MOST_TERMS or len(columns) > _MOST_COLUMNS or len(columns) < len(terms) + 1:
        return []
    first = np.array([sample_of(c.values)[:_ROWS] for c in terms])
    first = first[:, np.isfinite(first).all(axis=0)]
    if first.shape[1] < _FEWEST:
        return []
    first -= first.mean(axis=1, keepdims=True)
    with np.errstate(invalid="ignore", divide="ignore"):
        first /= np.sqrt(np.einsum("ij,ij->i", first, first))[:, None]
    near = np.abs(first @ first.T) >= _TOGETHER
    np.fill_diagonal(near, False)
    asked = [term for k, term in enumerate(terms) if near[k].any()]
    if not asked:
        return []
    found = {c.name: parts for c in asked if (parts := parts_of(c, [o for o in columns if o is not c])) is not None}
    told, inside = [], {c.name for c in terms}
    for name, parts in found.items():
        if set(parts.names) <= inside:  # exact collinearity, which says so itself
            continue
        for other in (c.name for c in asked if c.name != name):
            of = {other} if other in parts.names else set(found[other].names) if other in found else set()
            if not of or not of < set(parts.names):
                continue
            rest = quoted([n for n in parts.names if n not in of])
            rest = [*rest[:3], f"{len(rest) - 3} more"] if len(rest) > 4 else rest
            text = (
                f"`{name}` is {parts.words} in every row that has all of these, and `{other}`, which is in the model too, is {'one' if other in of else 'made of some'} of "
                f"them: with `{name}` held equal, more of `{other}` is less of the others, and its coefficient says by how much more it goes with the outcome than "
                f"these ({listed(rest)})."
            )
            told.append(Shared(other, text))
    return told
