"""What goes with the outcome by construction: columns made of one another, in the preparing steps or, though nobody says so, in every row."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.shared import ROUNDING, Shared, rounding_room
from markbase.core.design.shared_order import by_order
from markbase.core.design.shared_parts import among_terms
from markbase.core.design.shared_ratios import by_ratio
from markbase.core.errors import count_noun, listed, quoted, remark
from markbase.core.rows.row_functions import all_of, learn, sample_of, sum_of
from markbase.core.study.column import Column
from markbase.core.study.derived_values import made_of_same
from markbase.core.study.study import Study
from markbase.core.tables import rows_of

_MOST_OTHERS, _GLANCE, _FEWEST_ROWS = 500, 12, 10
"""Columns that are looked through, the rows of a first glance, and rows that tell."""
_MOST_PARTS, _ROWS, _SPREAD = 200, 256, 4
"""Columns that are tried as parts of a whole, the rows of a first glance at these, and how many times as many are tried for complete ones."""
_LEFT, _APART = 0.05, 0.2
"""What rounding may leave of a whole, in its standard deviations; how far weights of parts, in their mean, may differ, and others from 0."""
_LARGEST = 1e100
"""Beyond it squares cannot be written."""


def remark_on_shared(
    study: Study, outcome: str, columns: Mapping[str, Column], weighed: bool = False
) -> tuple[Shared, ...]:
    """Say which columns of a model go with the outcome by construction; return what only the rows say of it.

    Of rows that are weighed nothing is said of how much each of them tells.
    """
    if outcome not in study:
        return ()
    target = study.column(outcome)
    numbers = [study[n] for n in study.columns if n != outcome and not study[n].is_categorical]
    others = [c for c in numbers if c.name not in columns]
    found = (
        *by_identity(target, columns.values(), others),
        *by_parts(target, columns.values(), numbers),
        *by_ratio(target, columns.values(), numbers, weighed),
        *by_order(target, columns.values()),
        *among_terms(columns.values(), numbers, parts_of),
        *by_selection(study, target),
    )
    for told in (*by_construction(target, columns.values()), *(shared.text for shared in found)):
        remark(told)
    return found


def by_construction(outcome: Column, columns: Iterable[Column]) -> list[str]:
    """Say which columns of a model go with the outcome because of how one of the two, or both, were made."""
    told = []
    for column in columns:
        shared = made_of_same(outcome, column)
        if not shared:
            continue
        how = f"`{outcome.name}` and `{column.name}` were both made of {listed(quoted(shared))}"
        if shared == [column.name]:
            how = f"The outcome `{outcome.name}` was made of `{column.name}`, which is in the model"
        elif shared == [outcome.name]:
            how = f"`{column.name}` was made of the outcome `{outcome.name}`"
        told.append(f"{how}: the two go together by construction, and in part that is what their figures say.")
    return told


def by_identity(outcome: Column, terms: Iterable[Column], others: Sequence[Column]) -> list[Shared]:
    """Say that an outcome is the change from a term to another column, or back, in every row, though nobody says that it was made so.

    An outcome with values below 0, which parts of a total do not have. More than 500 others are not looked through.
    """
    y: Any = outcome.values
    if outcome.is_categorical or not 0 < len(others) <= _MOST_OTHERS or not outcome.span[0] < 0 < outcome.span[1]:
        return []
    glance, told = np.flatnonzero(sample_of(outcome.present))[:_GLANCE], []
    first = np.array([sample_of(c.values)[glance] for c in others])
    for term in (t for t in terms if not t.is_categorical and t.made is None):
        x = term.values
        for sign, words, way, back in (
            (1, "`{other}` − `{term}`", "below", ""),
            (-1, "`{term}` − `{other}`", "above", ", of the other sign"),
        ):
            likely = ~_are_off(first, sample_of(x)[glance], sign * sample_of(y)[glance]).any(axis=1)
            for other in (others[int(k)] for k in np.flatnonzero(likely)):
                there = term.present & outcome.present & other.present
                far = _are_off(other.values[there], x[there], sign * y[there])
                if sample_of(far).any() or len(far) < _FEWEST_ROWS or far.any():
                    continue
                text = (
                    f"`{outcome.name}` is {words.format(other=other.name, term=term.name)} in every row, and `{term.name}` is in the model: the two go together by "
                    f"construction, with a slope {way} 0 by chance alone (regression to the mean). With `{other.name}` as the outcome the other terms "
                    f"have the same coefficients{back}."
                )
                told.append(Shared(term.name, text))
    return told


def _are_off(sums: Any, one: Any, other: Any) -> Any:
    """Return where numbers are further from the sum of two others than rounding leads; not where one is missing."""
    return np.abs(sums - (one + other)) > ROUNDING * (np.abs(one) + np.abs(other))


def by_selection(study: Study, outcome: Column) -> list[Shared]:
    """Say that a preparing step left rows out because of the outcome, or of a column made of it or behind it."""
    told = []
    for step in study.trail.steps:
        if step.action != "keep" or step.check is None or outcome.is_categorical:
            continue
        for (name, tests), row in zip(step.settings["conditions"].items(), rows_of(step.check.table), strict=True):
            if name not in study:
                continue
            column = study.column(name)
            if column.is_categorical or not row.fail or not _cuts(tests) or not made_of_same(outcome, column):
                continue
            what = "the outcome" if name == outcome.name else f"`{name}`, which goes with the outcome by construction"
            text = (
                f"{count_noun(row.fail, 'row')} {'was' if row.fail == 1 else 'were'} left out because of {what} (kept where {row.condition}). Rows chosen by the "
                f"outcome draw slopes and differences towards 0, the more the more are left out (selection on the outcome, truncation): what is told is about "
                f"such rows, not about all."
            )
            told.append(Shared("", text))
    return told


def _cuts(tests: object) -> bool:
    """Return whether tests of a number keep one side of it, or some values, and do not only leave some values out."""
    return not isinstance(tests, Mapping) or bool({"above", "among", "at_least", "at_most", "below", "is"} & set(tests))


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
