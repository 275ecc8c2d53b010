"""How a group becomes columns, under each scheme, and the verification that it did.

References
----------
Serlin & Levin (1985), Journal of Educational Statistics 10(3), 223-238, doi:10.3102/10769986010003223.
"""

from __future__ import annotations

import itertools
import re
from collections.abc import Container, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from typing import NamedTuple

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.display import ShownTables
from markbase.core.errors import ColumnError, LevelError, listed, quoted
from markbase.core.rows.parts import each_part
from markbase.core.rows.row_functions import refuse_in_parts, sum_of
from markbase.core.study.column import SCHEMES, Column, Scheme

Array = NDArray[np.float64]

_DEGREES = ("linear", "quadratic", "cubic")
_MOST_LAID_OUT = 1_000
"""A group of more levels is not laid out: its table grows with the square of their number."""


class Compared(NamedTuple):
    """What one coefficient of a group compares."""

    level: str
    """The level it is about; the name of the trend under ``trend``."""
    against: str
    """What that level is compared with; empty under ``trend``."""
    base: bool
    """Whether this is the base's own row, which is 0 by definition."""


@dataclass(frozen=True)
class Contrasts:
    """The coefficients of a group as combinations of the effects of its levels."""

    rows: tuple[Compared, ...]
    """What each coefficient compares."""
    weights: Array
    """Shape (rows, levels): the combination of level effects that each coefficient is."""
    intercept: Array
    """Shape (levels,): the combination that goes into the intercept."""


def contrasts(scheme: Scheme, labels: Sequence[str], base: int, places: Sequence[int]) -> Contrasts:
    """Say what the coefficients of a group are under a scheme.

    `labels` are the levels that occur and `places` where they stand among all levels: the points of a trend. One row a
    level for ``indicator``, the only one with a `base` (which is among them), and ``effect``; one fewer for ``adjacent``
    and ``trend``.
    """
    L = len(labels)
    even = np.full(L, 1 / L)
    if scheme == "indicator":
        W = np.eye(L)
        W[:, base] -= 1
        intercept = np.zeros(L)
        intercept[base] = 1
        rows = [Compared(label, labels[base] if k != base else "", k == base) for k, label in enumerate(labels)]
        return Contrasts(tuple(rows), W, intercept)
    if scheme == "effect":
        rows = [Compared(label, "the mean of the levels", False) for label in labels]
        return Contrasts(tuple(rows), np.eye(L) - 1 / L, even)
    if scheme == "adjacent":
        rows = [Compared(b, a, False) for a, b in itertools.pairwise(labels)]
        return Contrasts(tuple(rows), np.eye(L)[1:] - np.eye(L)[:-1], even)
    rows = [Compared(_degree(k), "", False) for k in range(1, L)]
    return Contrasts(tuple(rows), orthogonal_polynomials(places).T, even)


def _degree(k: int) -> str:
    return f"{_DEGREES[k - 1]} trend" if k <= len(_DEGREES) else f"trend of degree {k}"


def orthogonal_polynomials(points: Sequence[int]) -> Array:
    """Return orthonormal polynomials on rising points, without the constant, shape (points, points - 1).

    Columns of length 1, each summing to 0, of degree 1, 2, …; the last point's value is positive.
    """
    x = np.asarray(points, dtype=np.float64)
    x = (x - x.mean()) / np.ptp(x)
    columns = [np.full(len(x), 1 / np.sqrt(len(x)))]
    for _ in range(1, len(x)):
        new = columns[-1] * x
        for _ in range(2):  # twice is enough for orthogonality to the last bits
            for old in columns:
                new = new - (new @ old) * old
        columns.append(new / np.linalg.norm(new))
    result = np.column_stack(columns[1:])
    signed: Array = result * np.sign(result[-1])
    signed[np.abs(signed) < 4 * np.finfo(np.float64).eps] = (
        0.0  # the middle of an odd number of points, but for rounding
    )
    return signed


def grid(scheme: Scheme, labels: Sequence[str], base: int, places: Sequence[int]) -> pd.DataFrame:
    """Return the coding grid of a group: what each new column holds for each level, a row; arguments as for `contrasts`."""
    L = len(labels)
    if scheme == "indicator":
        G, names = np.delete(np.eye(L), base, axis=1), [v for k, v in enumerate(labels) if k != base]
    elif scheme == "effect":
        G = np.delete(np.eye(L), base, axis=1)
        G[base] = -1
        names = [f"{v} against the mean" for k, v in enumerate(labels) if k != base]
    elif scheme == "adjacent":
        k = np.arange(1, L)  # the steps up to a level, less their mean over the levels
        G = np.where(np.arange(L)[:, None] >= k, k / L, k / L - 1)
        names = [f"{b} after {a}" for a, b in itertools.pairwise(labels)]
    else:
        G, names = orthogonal_polynomials(places), [_degree(k) for k in range(1, L)]
    return pd.DataFrame(G, index=pd.Index(labels, name="level"), columns=names)


def check_scheme(column: Column, scheme: str) -> None:
    """Refuse a scheme that does not exist or does not suit the group."""
    if scheme not in SCHEMES:
        raise LevelError(f"`{scheme}` is no coding of `{column.name}`; there are {listed(quoted(sorted(SCHEMES)))}.")
    if not column.is_categorical:
        raise ColumnError(f"`{column.name}` is numeric and enters as it is; only a group is coded.")
    if scheme in ("adjacent", "trend") and column.kind != "ordinal":
        raise ColumnError(
            f"`{scheme}` coding goes along the order of the levels, and `{column.name}` has none; declare it with `as_ordinal` first."
        )


@dataclass(frozen=True, eq=False, repr=False)
class Coding(ShownTables):
    """How a group becomes columns, with the verification an analyst would do by hand."""

    column: str
    """The group."""
    scheme: Scheme
    """The scheme in force."""
    grids: Mapping[str, pd.DataFrame]
    """By scheme: one row a level, one column a new column."""
    meaning: Mapping[str, str]
    """By scheme: what the coefficients compare."""
    check: pd.DataFrame
    """`column` (the indicator), `level`, `source` (rows of the level), `ones`, `zeros`, `missing`, `agrees`."""
    row_sums: Mapping[str, int]
    """Over all levels but the base: how many rows have 0, 1 or no indicator set; and missing in and out."""
    passed: bool
    """Whether every count agrees."""


_MEANING = {
    "indicator": "each level against the base `{base}`; the intercept is at the base",
    "effect": "each level against the unweighted mean of the levels; the intercept is at that mean",
    "adjacent": "each level against the one before it; the intercept is at the mean of the levels",
    "trend": "orthogonal polynomials over the order of the levels, each of length 1; the intercept is at the mean of the levels",
}


def code_group(column: Column) -> Coding:
    """Lay out the coding of a group under every scheme that suits it, and verify it by counts against the source."""
    places = [int(k) for k in np.flatnonzero(column.counts)]
    if len(places) < 2 or column.base is None:
        raise ColumnError(f"`{column.name}` has fewer than two levels with rows, so there is nothing to code.")
    if len(places) > _MOST_LAID_OUT:
        raise ColumnError(
            f"`{column.name}` has {len(places):,} levels with rows, more than the {_MOST_LAID_OUT:,} whose coding is laid out as a table; fits take such a group "
            f"all the same, without its columns."
        )
    labels = [column.levels[k].label for k in places]
    base = places.index(column.base.level) if column.base.level in places else 0
    schemes: list[Scheme] = [s for s in SCHEMES if s in ("indicator", "effect") or column.kind == "ordinal"]
    totals = sum_of([_counts_of(part) for part in each_part(partial(_indicators, column, False), column.values)])
    names = list(_indicators(column, False, np.zeros(0, dtype=np.int32)))
    records = []
    for at, (k, name) in enumerate(zip([k for k in range(len(places)) if k != base], names, strict=True)):
        ones, zeros, gone = (int(n) for n in totals[3 * at : 3 * at + 3])
        source = int(column.counts[places[k]])
        records.append(
            {
                "column": name,
                "level": labels[k],
                "source": source,
                "ones": ones,
                "zeros": zeros,
                "missing": gone,
                "agrees": ones == source
                and zeros == column.valid - source
                and gone == len(column.values) - column.valid,
            }
        )
    check = pd.DataFrame(records)
    one, none, every = (int(n) for n in totals[-3:])
    row_sums = {
        "rows with one indicator set": one,
        "rows with none set, the base": none,
        "rows of the base in the source": int(column.counts[places[base]]),
        "rows missing in the source": len(column.values) - column.valid,
        "rows missing in every indicator": every,
    }
    passed = bool(check["agrees"].all()) and (
        row_sums["rows with none set, the base"] == row_sums["rows of the base in the source"]
        and row_sums["rows missing in the source"] == row_sums["rows missing in every indicator"]
        and row_sums["rows with one indicator set"] + row_sums["rows with none set, the base"] == column.valid
    )
    return Coding(
        column.name,
        column.scheme,
        {s: grid(s, labels, base, places) for s in schemes},
        {s: _MEANING[s].format(base=labels[base]) for s in schemes},
        check,
        row_sums,
        passed,
    )


def _counts_of(made: pd.DataFrame) -> NDArray[np.int64]:
    """Return ones, zeros and gaps of each indicator, and rows with one of them set, with none, and with none known."""
    counts = [
        int(n) for name in made for n in ((made[name] == 1).sum(), (made[name] == 0).sum(), made[name].isna().sum())
    ]
    sums = made.sum(axis=1, skipna=False)
    return np.array([*counts, (sums == 1).sum(), (sums == 0).sum(), sums.isna().sum()], dtype=np.int64)


def indicator_columns(column: Column, full_set: bool, values: NDArray[np.int32] | None = None) -> pd.DataFrame:
    """Return the 0/1 columns of a group, the base among them in a full set, of all rows or of those with some `values`.

    Int8 columns named ``group_level``, missing where the group is missing. Levels without a row have none.
    """
    if not column.is_categorical:
        raise ColumnError(f"`{column.name}` is numeric and enters as it is; only a group has indicators.")
    if values is None:
        refuse_in_parts(column.values, "one table of indicators", "take them part by part, with `indicator_parts`")
    return _indicators(column, full_set, column.values if values is None else values)


def _indicators(column: Column, full_set: bool, values: NDArray[np.int32]) -> pd.DataFrame:
    """Lay the indicators of some rows of a group out."""
    gone = values < 0
    frame: dict[str, pd.api.extensions.ExtensionArray] = {}
    for k, level in enumerate(column.levels):
        if not column.counts[k] or (not full_set and column.base is not None and k == column.base.level):
            continue
        name = _name(column.name, level.label, frame)
        frame[name] = pd.arrays.IntegerArray((values == k).astype(np.int8), gone.copy())
    return pd.DataFrame(frame)


def _name(group: str, label: str, taken: Container[str]) -> str:
    """Return a readable name that is also a plain one."""
    name = f"{group}_{re.sub(r'[^0-9A-Za-zÀ-ÖØ-öø-ÿ]+', '_', label).strip('_') or 'level'}"
    return _untaken(name, taken)


def _untaken(name: str, taken: Container[str]) -> str:
    twin, k = name, 2
    while twin in taken:
        twin, k = f"{name}_{k}", k + 1
    return twin


def side_by_side(frames: Sequence[pd.DataFrame]) -> pd.DataFrame:
    """Put the indicators of several groups side by side, none called as one before it."""
    names: dict[str, None] = {}
    for frame in frames:
        for name in frame.columns:
            names[_untaken(name, names)] = None
    return pd.concat(frames, axis=1).set_axis(list(names), axis=1)
