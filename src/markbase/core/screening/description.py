"""What a sample is like: the columns by themselves, over all rows and in each level of a group, as the first table of a paper has it."""

from __future__ import annotations

import functools
import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.arguments import checked
from markbase.core.design.term_remarks import odd_values
from markbase.core.display import ShownTables
from markbase.core.errors import ColumnError, MarkbaseError, count_noun, listed, quoted
from markbase.core.inference.distributions import p_of_f
from markbase.core.rows.parts import each_part, in_parts
from markbase.core.rows.row_functions import constant
from markbase.core.screening.unheeded import unheeded_in, unheeded_words
from markbase.core.study.aggregating import checked_weights
from markbase.core.study.column import Column, Level
from markbase.core.study.few_levels import check_few_levels
from markbase.core.study.frames import AnyTable
from markbase.core.study.group_remarks import holds_dates, holds_times
from markbase.core.study.imputed import remark_on_stacked
from markbase.core.study.numeric_remarks import looks_like_identifier, whose_numbers
from markbase.core.study.study import Study, as_study
from markbase.core.tables import own_table

Array = NDArray[np.float64]

_MOST_LEVELS = 30
"""So many levels a group may have that is described unasked."""
_FEW_EXPECTED = 5
"""Where fewer rows are expected in a cell, chi-squared is no good guide."""
_HALF = 1e-12
"""Sums of weights that are nearer to the half are the half, but for rounding."""
_MEASURES = ("mean", "sd", "median", "low", "high")
_FIGURES = ("column", "level", "group", "n", "missing", *_MEASURES, "count", "share")


@dataclass(frozen=True, eq=False, repr=False)
class Description(ShownTables):
    """What a sample is like, column by column."""

    figures: pd.DataFrame
    """See `table`."""
    compared: pd.DataFrame
    """See `differences`."""
    columns: tuple[Column, ...]
    """The columns that are described."""
    by: Column | None
    """The group by whose levels they are, too."""
    counts: tuple[tuple[str, int], ...]
    """Each level of that group that has rows, and how many; without a group nothing."""
    rows: int
    """How many rows the data have."""
    used: int
    """How many of them have a level of that group, if there is one."""
    weights: str
    """The column of sampling weights by which rows count in means, standard deviations and shares; empty where they count alike."""
    data_name: str
    """What the data are called."""
    left_out: tuple[str, ...] = ()
    """Columns that are not described, for they sort too finely or tell rows apart."""
    unheeded: tuple[str, ...] = ()
    """Columns with the role of clusters, strata or weights, of which these figures take no account, each with what it holds."""
    odd: tuple[str, ...] = ()
    """What counts as a number in a column and looks like a code for a missing answer, or like another unit."""
    medians: bool = True
    """Whether medians are told: of rows in memory."""

    @own_table
    def table(self) -> pd.DataFrame:
        """One row a numeric column or level of a group, and group of rows.

        `column`, `level` (empty of a numeric column), `group` (the level of the group by which they are told; empty for all rows), `n` (the rows with
        a value), `missing`, `mean`, `sd` (n − 1; by weights, the weighted mean of squared deviations times n/(n − 1)), `median`, `low`, `high`; of a level
        `count` and `share` (of the rows with a value, by weights where there are any).
        """
        return self.figures

    @own_table
    def differences(self) -> pd.DataFrame:
        """One row a column: whether the levels of the group differ in it. Empty without a group, or with weights.

        `column`, `test` (``Welch's F`` or ``Pearson's chi²``), `statistic`, `df`, `df_rest` (infinite for chi²), `p`, `size` and what it is, `measure`
        (``correlation ratio`` or ``Cramér's V``, 0 to 1), `expected` (the fewest rows that are expected in a cell; NaN of a numeric column).
        """
        return self.compared

    @property
    def statements(self) -> tuple[str, ...]:
        """What the figures do not say, in sentences."""
        told = [
            *self.odd,
            "Each column is described on the rows that have it, so that columns may rest on different rows.",
        ]
        if self.weights:
            told.append(
                f"Means, standard deviations and shares count rows by `{self.weights}`; rows are counted as they are, and nothing is tested."
            )
        tests = int(self.compared["p"].notna().sum()) if len(self.compared) else 0
        if self.by is not None and tests:
            told.append(
                "Differences are told as they are, with nothing held equal, and each p stands by itself: where nothing differs one in twenty is below .05. Where people were "
                "assigned to the levels by lot, all that differs beforehand does so by chance, whatever its p."
            )
            few = self.compared.loc[self.compared["expected"] < _FEW_EXPECTED, "column"].tolist()
            if few:
                told.append(
                    f"In {listed(quoted(few))} fewer than {_FEW_EXPECTED} rows are expected in some cell, where chi² is no good guide to p: merge thin levels."
                )
        if self.unheeded:
            what = "Rows are taken for independent and count alike" if tests else "Rows count alike"
            told.append(unheeded_words(self.unheeded, what))
        return tuple(told)

    @property
    def _brief(self) -> str:
        return f"{count_noun(len(self.columns), 'column')}{f' by {self.by.name}' if self.by is not None else ''}"


@checked
def describe(
    study: Study | AnyTable, columns: Sequence[str] = (), *, by: str | None = None, weights: str | None = None
) -> Description:
    """Describe a sample, over all rows and by the levels of a group: means and standard deviations, counts and shares.

    Parameters
    ----------
    study : Study, or a table
        The data; a table (pandas, Polars, Arrow, DuckDB) is taken as a study without a codebook.
    columns : sequence of str
        The columns to describe, in this order; by default all but those that tell rows apart or have a role.
    by : str, optional
        A group, by whose levels they are told beside one another; rows without a level are left out.
    weights : str, optional
        A column of sampling weights. Nothing is tested then.

    Returns
    -------
    Description
        `table` (a row a column or level, and group of rows), `differences` (whether the levels of `by` differ: Welch's F of a numeric column,
        Pearson's chi² of a group, with its size), and `statements`; print it to read it.

    Raises
    ------
    ColumnError
        If there is no such column, it is named twice or cannot be used, the weights are none, or `by` is numeric.
    LevelError
        If fewer than two or more than 12 levels of `by` have rows.
    MarkbaseError
        If there is nothing to describe.

    References
    ----------
    B. L. Welch (1951), "On the comparison of several mean values: an alternative approach", Biometrika 38, 330-336.
    K. Pearson (1900), "On the criterion that a given system of deviations from the probable ...", Philosophical Magazine 50, 157-175.

    Examples
    --------
    >>> import markbase as mb
    >>> found = mb.describe(mb.demo.choirs(), ["age", "stays"], by="voice")
    >>> found.table.loc[found.table["group"] == "", ["column", "level", "n"]]
      column level     n
    0    age        1960
    1  stays    no  1978
    2  stays   yes  1978
    """
    study = as_study(study)
    remark_on_stacked(study[name] for name in study.columns)
    group = _grouping(study, by)
    heavy = checked_weights(weights, {n: study[n] for n in study.columns}) if weights is not None else ""
    chosen, left = _chosen(study, columns, by, weights)
    every = constant(0, chosen[0].values)
    whole = every if group is None else np.where(group.present, 0, -1)
    one = Column("", "categorical", whole, levels=(Level("", "", True),))
    medians = not in_parts([c.values for c in chosen])
    records = _described(chosen, one, study, heavy, medians)
    compared: list[dict[str, Any]] = []
    counts: tuple[tuple[str, int], ...] = ()
    if group is not None:
        here = [k for k, n in enumerate(group.counts) if n]
        counts = tuple((group.labels[k], int(group.counts[k])) for k in here)
        records += _described(chosen, group, study, heavy, medians)
    figures = pd.DataFrame(records, columns=list(_FIGURES))
    if counts and not heavy:
        compared = [_compared(c, figures, [label for label, _ in counts]) for c in chosen]
    unheeded = unheeded_in(study, (weights, by))
    names = ["column", "test", "statistic", "df", "df_rest", "p", "measure", "size", "expected"]
    used = study.rows if group is None else group.valid
    odd = tuple(text for c in chosen if not c.is_categorical for text in odd_values(c))
    return Description(
        figures, pd.DataFrame(compared, columns=names), tuple(chosen), group, counts, study.rows, used, heavy,
        study.name, left, unheeded, odd, medians,
    )  # fmt: skip


def _grouping(study: Study, by: str | None) -> Column | None:
    if by is None:
        return None
    group = study.column(by)
    check_few_levels(group, "a sample is told")
    return group


def _chosen(
    study: Study, names: Sequence[str], by: str | None, weights: str | None
) -> tuple[list[Column], tuple[str, ...]]:
    """Return the columns to describe, and the names of those that are left out unasked."""
    if isinstance(names, str):
        names = [names]
    twice = [name for name in names if list(names).count(name) > 1]
    if twice:
        raise ColumnError(f"The column `{twice[0]}` is named twice.")
    if names:
        chosen, left = [study.column(name) for name in names], []
    else:
        every = [study[name] for name in study.columns if name not in (by, weights)]
        chosen = [column for column in every if _describes(column)]
        left = [column.name for column in every if not _describes(column)]
    for column in chosen:
        if column.name == by:
            raise ColumnError(f"`{by}` is what the sample is told by, and no column of it beside.")
        if column.fault:
            raise ColumnError(column.fault)
        if not column.is_categorical and column.valid and not np.isfinite(column.span).all():
            raise ColumnError(f"`{column.name}` holds infinite values, of which there is no mean; blank them first.")
    if not chosen:
        raise MarkbaseError(
            f"{study.name} has no column to describe: each has a role, or tells rows apart. Name those that are wanted."
        )
    return chosen, tuple(left)


def _describes(column: Column) -> bool:
    if column.role is not None or column.fault or not column.valid:
        return False
    if column.is_categorical:
        return (
            int(np.count_nonzero(column.counts)) <= _MOST_LEVELS and not holds_dates(column) and not holds_times(column)
        )
    return not looks_like_identifier(column) and not whose_numbers(column) and bool(np.isfinite(column.span).all())


def _described(
    columns: Sequence[Column], key: Column, study: Study, weights: str, medians: bool
) -> list[dict[str, Any]]:
    """Return the figures of columns in each level of a key that has rows, the levels in turn, in one pass over these.

    By weights the variance is the weighted mean of squared deviations times n/(n − 1), n the rows that count; of a median half the weight
    lies below it and half above.
    """
    heavy = study[weights] if weights else None
    lows = tuple(None if c.is_categorical else c.span[0] for c in columns)
    tally = _Tally(len(key.levels), lows, tuple(len(c.levels) for c in columns), heavy is not None)
    counted_by = key.values if heavy is None else np.where(heavy.present, heavy.values, 0.0)
    rows, found = functools.reduce(_merged, each_part(tally, [c.values for c in columns], key.values, counted_by))
    records: list[dict[str, Any]] = []
    for column, own in zip(columns, found, strict=True):
        for k in np.flatnonzero(rows):
            valid = int(own[0, k].sum() if column.is_categorical else own[6, k])
            base = {
                "column": column.name,
                "level": "",
                "group": key.labels[k],
                "n": valid,
                "missing": int(rows[k]) - valid,
            }
            if not column.is_categorical:
                median = math.nan
                if medians and valid:
                    there = column.present & (key.values == k)
                    median = _median(column.values[there], None if heavy is None else counted_by[there])
                records.append(
                    {**base, **_measures(own[:, k], column.span[0]), "median": median, "count": None, "share": math.nan}
                )
                continue
            total = float(own[1, k].sum())
            records += [
                {**base, "level": column.labels[v], **dict.fromkeys(_MEASURES, math.nan), "count": int(own[0, k, v]),
                 "share": float(own[1, k, v]) / total if total > 0 else math.nan}
                for v in range(len(column.levels))
                if column.counts[v]
            ]  # fmt: skip
    return records


def _median(values: Array, heavy: Array | None) -> float:
    """Return the value below and above which half of all lie, or half of their weight; between two of which that holds their mean."""
    if heavy is None:
        return float(np.median(values))
    order = np.argsort(values, kind="stable")
    order = order[heavy[order] > 0]
    if not len(order):
        return math.nan
    reached = np.cumsum(heavy[order]) / math.fsum(heavy[order])
    low, high = (min(int(np.searchsorted(reached, 0.5 + off)), len(order) - 1) for off in (-_HALF, _HALF))
    return float(values[order[low]] / 2 + values[order[high]] / 2)


def _measures(told: Array, lowest: float) -> dict[str, float]:
    """Return what `_Tally` says of a numeric column in one level as figures; NaN where there is none."""
    n, total, above, squares, low, high, _ = told.tolist()
    sd = math.sqrt(squares / total * n / (n - 1)) if n > 1 else math.nan
    ends = (low, high) if low <= high else (math.nan, math.nan)
    return {"mean": lowest + above if total > 0 else math.nan, "sd": sd, "low": ends[0], "high": ends[1]}


@dataclass(frozen=True)
class _Tally:
    """What the rows of a part say of columns in each level of a key."""

    levels: int
    lows: tuple[float | None, ...]
    """The lowest value of each numeric column, from which means are told, which costs no digits far from 0; None of a group."""
    sizes: tuple[int, ...]
    """How many levels each group has."""
    weighed: bool

    def __call__(
        self, columns: Sequence[NDArray[Any]], key: NDArray[np.integer], weights: NDArray[Any]
    ) -> tuple[NDArray[np.int64], list[Array]]:
        """Return how many rows each level has, and for each column an array.

        Of a numeric one, shape (7, levels): how many rows count, by how much together, their mean above the lowest value, the sum of squared
        deviations from it, both ends, and how many have a value. Of a group, shape (2, levels, its levels): its rows, and by how much they count.
        """
        rows = [np.flatnonzero(key == level) for level in range(self.levels)]
        found = []
        for column, lowest, size in zip(columns, self.lows, self.sizes, strict=True):
            told = np.zeros((7, self.levels) if lowest is not None else (2, self.levels, size))
            if lowest is not None:
                told[4], told[5] = np.inf, -np.inf
            for level, inside in enumerate(rows):
                values = column[inside]
                there = values >= 0 if lowest is None else ~np.isnan(values)
                values = values[there]
                heavy = weights[inside][there] if self.weighed else np.ones(len(values))
                if lowest is None:
                    told[0, level], told[1, level] = (
                        np.bincount(values, minlength=size),
                        np.bincount(values, heavy, size),
                    )
                elif len(values):
                    told[:, level] = _spread(values, lowest, heavy)
            found.append(told)
        return np.array([len(inside) for inside in rows]), found


def _spread(values: Array, lowest: float, heavy: Array) -> tuple[float, ...]:
    above, total = values - lowest, float(heavy.sum())
    mean = float(heavy @ above) / total if total > 0 else 0.0
    squares = float(heavy @ (above - mean) ** 2)
    ends = float(values.min()), float(values.max())
    return float(np.count_nonzero(heavy)), total, mean, squares, *ends, float(len(values))


def _merged(
    one: tuple[NDArray[np.int64], list[Array]], other: tuple[NDArray[np.int64], list[Array]]
) -> tuple[NDArray[np.int64], list[Array]]:
    """Put together what two parts say (Chan, Golub & LeVeque 1983, The American Statistician 37(3), 242-247)."""
    found = []
    for a, b in zip(one[1], other[1], strict=True):
        both = a + b
        if a.ndim == 2:  # a numeric column
            share = np.divide(b[1], both[1], out=np.zeros_like(b[1]), where=both[1] > 0)
            apart = b[2] - a[2]
            both[2], both[3] = a[2] + apart * share, both[3] + apart**2 * a[1] * share
            both[4], both[5] = np.minimum(a[4], b[4]), np.maximum(a[5], b[5])
        found.append(both)
    return one[0] + other[0], found


def _compared(column: Column, figures: pd.DataFrame, groups: Sequence[str]) -> dict[str, Any]:
    """Test whether groups differ in a column, and tell by how much they do."""
    own = figures[(figures["column"] == column.name) & figures["group"].isin(groups)]
    if column.is_categorical:
        cells = own.pivot_table(index="group", columns="level", values="count", aggfunc="sum").to_numpy(
            dtype=np.float64
        )
        return {"column": column.name, "test": "Pearson's chi²", "measure": "Cramér's V", **_chi_squared(cells)}
    n, mean, sd = (own[name].to_numpy(dtype=np.float64) for name in ("n", "mean", "sd"))
    return {
        "column": column.name,
        "test": "Welch's F",
        "measure": "correlation ratio",
        **_welch(n, mean, sd),
        "expected": math.nan,
    }


def _welch(n: Array, mean: Array, sd: Array) -> dict[str, float]:
    """Return Welch's F of means whose variances may differ, its degrees of freedom and p, and the correlation ratio; NaN where a group has no spread."""
    kept = n > 0
    n, mean, sd = n[kept], mean[kept], np.where(n[kept] > 1, sd[kept], 0.0)
    between = float(n @ (mean - n @ mean / n.sum()) ** 2) if len(n) else 0.0
    total = between + float((n - 1) @ sd**2)
    found = {"statistic": math.nan, "df": float(len(n) - 1), "df_rest": math.nan, "p": math.nan}
    found["size"] = math.sqrt(between / total) if total > 0 and len(n) > 1 else math.nan
    if len(n) < 2 or not (sd > 0).all():
        return found
    heavy = n / sd**2
    share = heavy / heavy.sum()
    off, k = float(np.sum((1 - share) ** 2 / (n - 1))), len(n)
    spread = float(heavy @ (mean - share @ mean) ** 2) / (k - 1)
    statistic, rest = spread / (1 + 2 * (k - 2) / (k * k - 1) * off), (k * k - 1) / (3 * off)
    return found | {"statistic": statistic, "df_rest": rest, "p": float(p_of_f(statistic, k - 1, rest))}


def _chi_squared(cells: Array) -> dict[str, float]:
    """Return Pearson's chi² of counts, shape (groups, levels), its degrees of freedom and p, and Cramér's V; NaN where nothing can differ."""
    cells = cells[cells.sum(axis=1) > 0][:, cells.sum(axis=0) > 0]
    found = dict.fromkeys(("statistic", "df", "p", "size", "expected"), math.nan) | {"df_rest": math.inf}
    if min(cells.shape) < 2:
        return found
    n = float(cells.sum())
    expected = np.outer(cells.sum(axis=1), cells.sum(axis=0)) / n
    statistic = float(np.sum((cells - expected) ** 2 / expected))
    df = (cells.shape[0] - 1) * (cells.shape[1] - 1)
    size = math.sqrt(min(statistic / (n * (min(cells.shape) - 1)), 1.0))
    p = float(p_of_f(statistic / df, df, math.inf))
    return found | {"statistic": statistic, "df": float(df), "p": p, "size": size, "expected": float(expected.min())}
