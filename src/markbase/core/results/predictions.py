"""Predictions for every row of a table, in one pass over its columns.

References
----------
Duan (1983), Journal of the American Statistical Association 78(383), 605-610, doi:10.1080/01621459.1983.10478017 (smearing).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.design.coefficient_map import components_of
from markbase.core.design.terms import Variable, variables_of
from markbase.core.errors import ColumnError, listed, near, quoted
from markbase.core.formatting import short
from markbase.core.study.column import Column
from markbase.core.study.derived_values import can_follow, value_of
from markbase.core.study.frames import columns_of
from markbase.core.study.study import Study

if TYPE_CHECKING:
    from markbase.core.results.estimates import Estimated

Array = NDArray[np.float64]
_CHUNK = 20_000
_RESCALED = ("centre", "unit_range", "z")


@dataclass(frozen=True, eq=False)
class NewRows:
    """The values of a model's variables in the rows of another table."""

    index: pd.Index[Any]
    """The rows."""
    numerics: dict[str, Array]
    """Shape (rows,) each: NaN where missing or no number."""
    groups: dict[str, NDArray[np.intp]]
    """Shape (rows,) each: which of the levels that occur in the fit, −1 for none."""
    cautions: list[str]
    """What must be said of each row; empty for nothing."""
    observed: Array | None
    """Shape (rows,): the outcome (1 for an event), if the table has it."""
    identifier: list[str] | None
    """The identifier of each row, if the table has it."""


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

    def numeric(self, name: str) -> Array:
        if self.study is not None:
            column = self.study[name]
            if column.is_categorical:
                raise ColumnError(f"`{name}` is categorical here, and numeric in the model; declare it numeric.")
            values: Array = column.values
            return values
        return pd.to_numeric(self.table[name], errors="coerce").to_numpy(dtype=np.float64, na_value=np.nan)

    def texts(self, name: str) -> list[str | None]:
        """Return the labels or codes of each row as text, None where it has none."""
        if self.study is not None:
            column = self.study[name]
            if column.is_categorical:
                labels = [level.label for level in column.levels]
                return [labels[v] if v >= 0 else None for v in column.values]
            return [None if np.isnan(v) else short_text(v) for v in column.values]
        series = self.table[name]
        missing = series.isna().to_numpy()
        return [None if gap or v == "" else short_text(v) for v, gap in zip(series.tolist(), missing, strict=True)]


def short_text(value: Any) -> str:
    """Write a value as the level of a group would be written: whole numbers without a point."""
    if isinstance(value, float) and value == round(value):
        return str(int(value))
    return str(value)


def new_rows(fit: Estimated, data: Any) -> NewRows:
    """Take the values of a model's variables out of another table.

    Parameters
    ----------
    fit : LinearFit or LogisticFit
        The fit.
    data : Study or table
        The rows.

    Returns
    -------
    NewRows
        Columns that were derived from others are computed from these, with the means and spreads of the fit's own data.

    Raises
    ------
    ColumnError
        If the table lacks a column that is needed.
    """
    source = _Source(data)
    n = len(source.index)
    told: list[list[str]] = [[] for _ in range(n)]
    numerics: dict[str, Array] = {}
    groups: dict[str, NDArray[np.intp]] = {}
    for name, variable in variables_of(fit.model_terms).items():
        if variable.is_categorical:
            groups[name] = _slots(variable, source, told)
            continue
        values = _numeric(variable.column, source)
        if values is None:
            needed = (
                f" (or {listed(quoted(variable.column.made.of))}, of which it was made)" if variable.column.made else ""
            )
            raise ColumnError(
                f"The table has no column `{name}`{needed}, which the model needs.{near(name, source.names)}"
            )
        numerics[name] = values
        low, high, _ = fit.spread(name)
        for k in np.flatnonzero(np.isnan(values)):
            told[k].append(f"`{name}` is missing or no number")
        for k in np.flatnonzero((values < low) | (values > high)):
            told[k].append(
                f"`{name}` = {short(values[k], 6)} lies outside the rows used ({short(low, 6)} to {short(high, 6)})"
            )
    _note_unseen_cells(fit, groups, told)
    identifier = None
    if fit.identifier is not None and fit.identifier.name in source.names:
        identifier = [t or "–" for t in source.texts(fit.identifier.name)]
    return NewRows(source.index, numerics, groups, ["; ".join(t) for t in told], _observed(fit, source), identifier)


def _numeric(column: Column, source: _Source) -> Array | None:
    """Return the values of a numeric column; rescaled and absent ones from what they were made of."""
    made = column.made
    if made is not None and can_follow(made) and (column.name not in source.names or made.how in _RESCALED):
        parts = [_numeric(s, source) for s in made.sources]
        known = [p for p in parts if p is not None]
        if len(known) == len(parts):
            return value_of(made, known)
    return source.numeric(column.name) if column.name in source.names else None


def _slots(variable: Variable, source: _Source, told: list[list[str]]) -> NDArray[np.intp]:
    name = variable.name
    if name not in source.names:
        raise ColumnError(f"The table has no column `{name}`, which the model needs.{near(name, source.names)}")
    slot: dict[str, int] = {}
    for k, place in enumerate(variable.places):
        level = variable.column.levels[place]
        slot.setdefault(level.code, k)
        slot[level.label] = k
    found = np.full(len(told), -1, dtype=np.intp)
    for row, text in enumerate(source.texts(name)):
        if text is None:
            told[row].append(f"`{name}` is missing")
        elif text in slot:
            found[row] = slot[text]
        else:
            told[row].append(f"`{text}` of `{name}` occurs in no row the model was fitted to")
    return found


def _note_unseen_cells(fit: Estimated, groups: dict[str, NDArray[np.intp]], told: list[list[str]]) -> None:
    """Say which rows combine levels that no row used does, two groups at a time."""
    names = list(groups)
    for a, first in enumerate(names):
        for second in names[a + 1 :]:
            counts = fit._counts_at((first, second))
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
        return source.numeric(name)
    event = fit.outcome.levels[1]
    texts = source.texts(name)
    other = fit.outcome.levels[0]
    return np.array(
        [1.0 if t in (event.label, event.code) else 0.0 if t in (other.label, other.code) else np.nan for t in texts]
    )


def predictor_of(fit: Estimated, rows: NewRows) -> tuple[Array, Array]:
    """Return the linear predictor of each row and its standard error, NaN where a value is missing.

    Parameters
    ----------
    fit : LinearFit or LogisticFit
        The fit.
    rows : NewRows
        The rows.

    Returns
    -------
    predictor, se : ndarray, shape (rows,)
        In units of the linear predictor.
    """
    s, n = fit.solution, len(rows.index)
    inner = {int(c): k for k, c in enumerate(s.columns)}
    components = components_of(fit.model_terms)
    predictor, se = np.full(n, np.nan), np.full(n, np.nan)
    hidden = ~fit._term_columns
    for begin in range(0, n, _CHUNK):
        part = slice(begin, min(begin + _CHUNK, n))
        size = part.stop - part.start
        X, known = np.zeros((size, len(s.columns))), np.ones(size, dtype=bool)
        X[:, hidden] = s.means[hidden]
        for k, component in enumerate(components):
            start, values = int(fit.moments.starts[k + 1]), np.ones(size)
            if component.numerics:
                values = component.product({v.name: rows.numerics[v.name][part] for v, _ in component.numerics})
                values = values - fit.moments.centres[k + 1]
                known &= np.isfinite(values)
            code = np.zeros(size, dtype=np.intp)
            for group in component.groups:
                own = rows.groups[group.name][part]
                known &= own >= 0
                code = code * group.size + np.maximum(own, 0)
            place = np.array([inner.get(start + level, -1) for level in range(component.size)])[code]
            told = np.flatnonzero(place >= 0)
            X[told, place[told]] = np.nan_to_num(values[told])
        found = s.at_centres[0] + (s.at_centres[1] + X @ s.lower + X @ s.coefficients)
        predictor[part] = np.where(known, found, np.nan)
        se[part] = np.where(known, fit._se(fit._roots_of(X, np.ones(size, dtype=bool))), np.nan)
    return predictor, se


def head_of(fit: Estimated, rows: NewRows) -> dict[str, Any]:
    """Return the first columns of a table of predictions: the identifier, and the outcome where it is known."""
    head: dict[str, Any] = {}
    if rows.identifier is not None and fit.identifier is not None:
        head[fit.identifier.name] = rows.identifier
    if rows.observed is not None:
        head["observed"] = rows.observed
    return head
