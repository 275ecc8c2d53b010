"""The rows of another table as a model needs them: values of its variables, and what must be said of each row."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.design.mean_columns import told_of_lacking
from markbase.core.design.terms import Variable, variables_of
from markbase.core.design.weights import Weighting
from markbase.core.errors import ColumnError, listed, near, quoted
from markbase.core.formatting import plain
from markbase.core.study.codebook import ColumnSpec
from markbase.core.study.column import Column
from markbase.core.study.column_types import build_column
from markbase.core.study.derived_values import can_follow, value_of
from markbase.core.study.frames import columns_of
from markbase.core.study.raw_values import raw_values
from markbase.core.study.study import Study
from markbase.core.study.written_numbers import is_other_unit, numbers_as_written

if TYPE_CHECKING:
    from markbase.core.results.estimates import Estimated
from markbase.core.tables import name_beside

Array = NDArray[np.float64]
_RESCALED = ("centre", "unit_range", "z")
UNSEEN = "occurs in no row the model was fitted to"
"""What is said of a level that the fit does not know."""


@dataclass(frozen=True, eq=False)
class NewRows:
    """The values of a model's variables in the rows of another table."""

    index: pd.Index[Any]
    """The rows."""
    numerics: dict[str, Array]
    """Shape (rows,) each: NaN where missing or no number."""
    groups: dict[str, NDArray[np.intp]]
    """Shape (rows,) each: which of the levels that occur in the fit, −1 for none."""
    told: dict[int, str]
    """What must be said of a row, by its place."""
    observed: Array | None
    """Shape (rows,): the outcome (1 for an event), if the table has it."""
    identifier: NDArray[np.object_] | None
    """The identifier of each row, if the table has it."""

    @property
    def cautions(self) -> NDArray[np.object_]:
        """What must be said of each row, shape (rows,); empty for nothing."""
        cautions = np.full(len(self.index), "", dtype=object)
        for row, words in self.told.items():
            cautions[row] = words
        return cautions


class _Source:
    """A table as columns of raw values: of a study its own typed columns, of any other table what it holds."""

    def __init__(self, data: Any) -> None:
        self.study = data if isinstance(data, Study) else None
        self.table = {} if self.study is not None else dict(columns_of(data))
        self.index = (
            data.index
            if isinstance(data, (Study, pd.DataFrame))
            else pd.RangeIndex(len(next(iter(self.table.values()), [])))
        )

    @property
    def names(self) -> list[str]:
        return list(self.study.columns) if self.study is not None else list(self.table)

    def numeric(self, own: Column) -> Array:
        """Return the values of a numeric column of the fit; what stands for a missing answer there is a gap here too."""
        if self.study is not None:
            column = self.study[own.name]
            if column.is_categorical:
                raise ColumnError(f"`{own.name}` is categorical here, and numeric in the model; declare it numeric.")
            values: Array = column.values
            check_unit(own, column)
        else:
            raw = self.table[own.name]
            if pd.api.types.is_numeric_dtype(raw):
                values = raw.to_numpy(dtype=np.float64, na_value=np.nan)
            else:  # texts are read as where a study is made of them
                values = _numbers_of_texts(raw, own)
        return without_codes(own, values)

    def texts(self, name: str, gaps: Collection[str] = ()) -> tuple[list[str], NDArray[np.intp]]:
        """Return the distinct values of a column as texts, and which of them each row has; −1 for none, and for what stands for a gap."""
        if self.study is not None:
            column = self.study[name]
            if column.is_categorical:
                codes = column.values.astype(np.intp)
                blank = [k for k, v in enumerate(column.levels) if v.label in gaps or v.code in gaps]
                return [v.label for v in column.levels], np.where(np.isin(codes, blank), -1, codes) if blank else codes
            codes, distinct = pd.factorize(column.values)
            return [short_text(v) for v in distinct.tolist()], codes
        codes, distinct = pd.factorize(self.table[name].to_numpy())
        found = [short_text(v) for v in distinct.tolist()]
        blank = [k for k, text in enumerate(found) if text in ("", *gaps)]
        return found, np.where(np.isin(codes, blank), -1, codes) if blank else codes


def check_unit(own: Column, new: Column) -> None:
    """Refuse values that are counted in another unit than those the model was fitted to."""
    if own.unit is not None and new.unit is not None and is_other_unit(own.unit, new.unit):
        raise ColumnError(
            f"`{own.name}` is in {new.unit.many} here, and in {own.unit.many} in the model; convert it before it is read."
        )


def _numbers_of_texts(raw: pd.Series[Any], own: Column) -> Array:
    """Read texts as numbers, all in one way if they can be, otherwise one by one; NaN for what is none."""
    column = build_column(raw, ColumnSpec(own.name, kind="numeric"))
    if not column.fault:
        check_unit(own, column)
        return column.values
    found = raw_values(raw)
    return np.append(numbers_as_written(found.texts), np.nan)[found.places]


def without_codes(own: Column, values: Array) -> Array:
    """Return values of other rows, in memory or in parts, with a gap where they stand for a missing answer in a numeric column of the fit.

    A column that was made of others has values of its own, and no codes.
    """
    codes = pd.Series([] if own.made is not None else [code.code for code in own.missing_codes], dtype=object)
    for code in pd.to_numeric(codes, errors="coerce").dropna():
        values = np.where(values == code, np.nan, values)
    return values


def _gaps(column: Column) -> set[str]:
    """Return the texts that stand for a missing answer and are no level."""
    return {code.code for code in column.missing_codes} - {t for v in column.levels for t in (v.code, v.label)}


def short_text(value: Any) -> str:
    """Write a value as the level of a group would be written: whole numbers without a point."""
    if isinstance(value, float) and value == round(value):
        return str(int(value))
    return str(value)


def new_rows(fit: Estimated, data: Any) -> NewRows:
    """Take the values of a model's variables out of another table.

    Columns that were derived from others are computed from these, with the means and spreads of the fit's own data.
    """
    source = _Source(data)
    told: dict[int, list[str]] = defaultdict(list)
    numerics: dict[str, Array] = {}
    groups: dict[str, NDArray[np.intp]] = {}
    for name, variable in variables_of(fit.model_terms).items():
        if variable.is_categorical:
            groups[name] = _slots(variable, source, told)
            continue
        values = _numeric(variable.column, source)
        if values is None:
            made = variable.column.made
            whole = made is not None and can_follow(made)
            needed = f" (or {listed(quoted(made.of))}, of which it was made)" if made is not None and whole else ""
            raise ColumnError(
                f"The table has no column `{name}`{needed}, which the model needs.{near(name, source.names)}"
            )
        numerics[name] = values
        low, high, _ = fit.rows_used.spread(name)
        for k in np.flatnonzero(np.isnan(values)).tolist():
            told[k].append(f"`{name}` is missing or no number")
        for k in np.flatnonzero((values < low) | (values > high)).tolist():
            told[k].append(
                f"`{name}` = {plain(values[k], 6)} lies outside the rows used ({plain(low, 6)} to {plain(high, 6)})"
            )
    _note_unseen_cells(fit, groups, told)
    for names, none in fit._sample.lacking.values():
        here = np.flatnonzero(np.all([groups[n] >= 0 for n in names], axis=0))
        lost = here[none[tuple(groups[n][here] for n in names)]]
        groups[names[0]][lost] = -1  # as a level the model has not seen: there is no prediction
        for k in lost.tolist():
            told[k].append(told_of_lacking(names))
    identifier = None
    if fit.identifier is not None and fit.identifier.name in source.names:
        texts, codes = source.texts(fit.identifier.name)
        identifier = np.array([*texts, "–"], dtype=object)[codes]
    words = {row: "; ".join(told[row]) for row in sorted(told)}
    return NewRows(source.index, numerics, groups, words, _observed(fit, source), identifier)


def weights_in(weighting: Weighting | None, data: Any) -> Array | None:
    """Return with how much each row of another table counts, shape (rows,), NaN for a gap; None where rows count alike, or for want of the column."""
    source = _Source(data)
    if weighting is None or weighting.column not in source.names:
        return None
    return source.numeric(Column(weighting.column, "numeric", np.zeros(0)))


def _numeric(column: Column, source: _Source) -> Array | None:
    """Return the values of a numeric column; rescaled and absent ones from what they were made of."""
    made = column.made
    if made is not None and can_follow(made) and (column.name not in source.names or made.how in _RESCALED):
        parts = [_numeric(s, source) for s in made.sources]
        known = [p for p in parts if p is not None]
        if len(known) == len(parts):
            return value_of(made, known)
    return source.numeric(column) if column.name in source.names else None


def _slots(variable: Variable, source: _Source, told: dict[int, list[str]]) -> NDArray[np.intp]:
    name = variable.name
    if name not in source.names:
        raise ColumnError(f"The table has no column `{name}`, which the model needs.{near(name, source.names)}")
    slot: dict[str, int] = {}
    for k, place in enumerate(variable.places):
        level = variable.column.levels[place]
        slot.setdefault(level.code, k)
        slot[level.label] = k
    texts, codes = source.texts(name, _gaps(variable.column))
    found = np.array([*(slot.get(text, -1) for text in texts), -1], dtype=np.intp)[codes]
    new = {code: unseen(variable, texts[code]) for code in np.unique(codes[found < 0]).tolist() if code >= 0}
    for row in np.flatnonzero(found < 0).tolist():
        told[row].append(new.get(codes[row], f"`{name}` is missing"))
    return found


def unseen(variable: Variable, text: str) -> str:
    """Say of a level that no row of the fit has it, and which one there differs from it in capitals or blanks at its ends alone."""
    alike = [v for v in variable.labels if v.strip().casefold() == text.strip().casefold()]
    return f"`{text}` of `{variable.name}` {UNSEEN}{f', unlike {listed(quoted(alike))}' if alike else ''}"


def _note_unseen_cells(fit: Estimated, groups: dict[str, NDArray[np.intp]], told: dict[int, list[str]]) -> None:
    """Say which rows combine levels that no row used does, two groups at a time."""
    names = list(groups)
    for a, first in enumerate(names):
        for second in names[a + 1 :]:
            counts = fit.rows_used.counts_at((first, second))
            if counts.all():
                continue
            here = (groups[first] >= 0) & (groups[second] >= 0)
            empty = np.flatnonzero(here)[counts[groups[first][here], groups[second][here]] == 0]
            for k in empty:
                one, other = (fit.variable(n, "categorical").labels[groups[n][k]] for n in (first, second))
                told[k].append(f"no row used has `{first}` `{one}` and `{second}` `{other}` together")


def _observed(fit: Estimated, source: _Source) -> Array | None:
    name = fit.outcome.name
    if name not in source.names:
        return None
    if not fit.outcome.is_categorical:
        return source.numeric(fit.outcome)
    other, event = fit.outcome.levels
    texts, codes = source.texts(name, _gaps(fit.outcome))
    value = [
        1.0 if t in (event.label, event.code) else 0.0 if t in (other.label, other.code) else np.nan for t in texts
    ]
    return np.array([*value, np.nan])[codes]


PREDICTION_FIGURES = frozenset(
    ("caution", "geometric_high", "geometric_low", "geometric_mean", "high", "log_odds", "low", "mean_smeared", "observed", "one_high", "one_low",
     "predicted", "probability", "residual", "se")
)  # fmt: skip
"""What the columns of predictions may be called."""


def head_of(fit: Estimated, rows: NewRows) -> dict[str, Any]:
    """Return the first columns of a table of predictions: the identifier, and the outcome where it is known."""
    head: dict[str, Any] = {}
    if rows.identifier is not None and fit.identifier is not None:
        head[name_beside(PREDICTION_FIGURES, fit.identifier.name)] = rows.identifier
    if rows.observed is not None:
        head["observed"] = rows.observed
    return head
