"""Bands of about as many rows each: where they begin, and what they are called."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from markbase.core.errors import LevelError, count_noun, listed
from markbase.core.formatting import plain
from markbase.core.rows.parts import InParts
from markbase.core.study.column import Column
from markbase.core.study.cutting import band_names, check_cuttable
from markbase.core.study.verification import Recode

_MOST = 100
_UNEVEN = 0.2
"""Bands whose share of the rows is further from an equal one, as a share of it, are told."""
_PARTS = {2: "half", 3: "third", 4: "quarter", 5: "fifth", 6: "sixth", 8: "eighth", 10: "tenth"}
_COUNTED = {1: "st", 2: "nd", 3: "rd"}


def quantile_edges(column: Column, bands: int, upper: bool, name: str) -> list[float]:
    """Return the edges of so many bands of a numeric column, each the one between two values that comes nearest to equal shares of the rows.

    A value at an edge goes into the band above it if `upper`. Of rows in parts with very many different values, the edges are those of
    the rows that are kept in memory.
    """
    check_cuttable(column, name)
    if not 2 <= bands <= _MOST:
        raise LevelError(
            f"`{column.name}` is cut into 2 to {_MOST} bands of about as many rows each, not into {bands}."
        )
    distinct, counts = _counted(column)
    below = np.cumsum(counts)[:-1]
    wanted = below[-1] + counts[-1] if len(below) else 0
    at = [int(np.argmin(np.abs(below - wanted * k / bands))) for k in range(1, bands)] if len(below) else [0, 0]
    if len(set(at)) < len(at) or len(below) < bands - 1:
        often = int(np.argmax(counts))
        raise LevelError(
            f"`{column.name}` has too few different values for {bands} bands of about as many rows each: {plain(float(distinct[often]), 6)} alone is in "
            f"{100 * counts[often] / counts.sum():.0f}% of the rows. Take fewer bands, or cut it at edges of your own."
        )
    return [float(distinct[k + 1] if upper else distinct[k]) for k in at]


def _counted(column: Column) -> tuple[np.ndarray, np.ndarray]:
    if not isinstance(column.values, InParts):
        return np.unique(column.values[column.present], return_counts=True)
    known = column.values.facts.distinct
    if known is not None:
        return known
    kept = column.values.kept
    return np.unique(kept[~np.isnan(kept)], return_counts=True)


def quantile_names(edges: Sequence[float], upper: bool) -> list[str]:
    """Return what bands of about as many rows each are called, the lowest first, with the values they hold."""
    bands = len(edges) + 1
    part = _PARTS.get(bands, f"of {bands}")
    middle = ["middle"] if bands == 3 else [f"{k}{_ending(k)}" for k in range(2, bands)]
    which = ["lower", "upper"] if bands == 2 else ["lowest", *middle, "highest"]
    return [f"{own} {part} ({band})" for own, band in zip(which, band_names(edges, upper), strict=True)]


def _ending(k: int) -> str:
    return "th" if k % 100 in (11, 12, 13) else _COUNTED.get(k % 10, "th")


def with_shares(recode: Recode, source: Column, edges: list[float]) -> Recode:
    """Add to a column that was cut at quantiles where its edges lie, and whether its bands are far from equal."""
    new, bands = recode.column, len(edges) + 1
    shares = new.counts / max(new.valid, 1)
    where = f"{'edge' if bands == 2 else 'edges'} at {listed([plain(e, 6) for e in edges])}"
    notes = [f"{where}, of {count_noun(new.valid, 'row')}"]
    if isinstance(source.values, InParts) and source.values.facts.distinct is None:
        notes = [f"{where}, of a random sample of {len(source.values.kept):,} rows"]
    if np.abs(shares * bands - 1).max() > _UNEVEN:
        notes.append(
            f"far from equal: bands of {100 * shares.min():.0f}% to {100 * shares.max():.0f}% of the rows, as equal values stay together"
        )
    check = replace(recode.check, notes=(*notes, *recode.check.notes))
    return replace(recode, check=check, text=f"{recode.text[:-1]}; {'; '.join(notes)}.")
