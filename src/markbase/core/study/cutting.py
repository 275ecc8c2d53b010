"""Cutting a numeric column into bands, splitting it in two, and making a yes/no outcome of anything."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import ColumnError, LevelError, count_noun, listed, quoted
from markbase.core.formatting import plain
from markbase.core.rows.parts import InParts
from markbase.core.rows.row_functions import any_of, learn
from markbase.core.study.column import Base, Column, Kind, Level, Made
from markbase.core.study.column_types import with_default_base
from markbase.core.study.verification import Recode, old_by_new, with_missing


def cut_numeric(column: Column, edges: Sequence[float], labels: Sequence[str] | None, name: str, upper: bool) -> Recode:
    """Cut a numeric column into ordinal bands at rising edges; below the first and above the last edge is a band, too.

    A value at an edge goes into the band above it if `upper`. Empty bands, values at the edges and what a small move of the
    edges would change are in the notes.
    """
    check_cuttable(column, name)
    points = [float(e) for e in edges]
    if not points or any(not np.isfinite(p) for p in points) or sorted(set(points)) != points:
        raise LevelError(f"The edges for `{name}` must be numbers that rise, not {list(edges)!r}.")
    names = list(labels) if labels is not None else band_names(points, upper)
    if len(names) != len(points) + 1 or len(set(names)) != len(names):
        raise LevelError(
            f"{count_noun(len(points), 'edge')} make {len(points) + 1} bands of `{column.name}`, each with a label of its own; "
            f"{listed(quoted(names))} {'is' if len(names) == 1 else 'are'} {len(names)}."
        )
    side: Literal["left", "right"] = "right" if upper else "left"
    band = np.searchsorted(np.asarray(points), column.values, side=side)
    values = np.where(column.present, band, -1).astype(np.int32)
    return _banded(column, points, names, values, name, upper, "ordinal")


def split_numeric(
    column: Column, above: float | None, at_least: float | None, labels: Sequence[str], name: str
) -> Recode:
    """Split a numeric column or a scale in two, the lower level the base: values `above` a threshold, or of `at_least` that."""
    check_cuttable(column, name)
    if (above is None) == (at_least is None):
        raise LevelError(
            f"Say where to split `{column.name}`: above=3 (3 is low) or at_least=3 (3 is high), and one of them."
        )
    if len(labels) != 2 or labels[0] == labels[1] or isinstance(labels, str):
        raise LevelError(f"A split of `{column.name}` needs two labels, the lower first, not {labels!r}.")
    edge = float(above if above is not None else at_least)  # type: ignore[arg-type]
    upper = above is None
    high = (column.values >= edge) if upper else (column.values > edge)
    values = np.where(column.present, high.astype(np.int32), np.int32(-1))
    for side in (0, 1):
        if not np.any(values == side):
            raise LevelError(
                f"No row of `{column.name}` would be `{labels[side]}`: its values run from {plain(column.span[0])} to "
                f"{plain(column.span[1])}; split elsewhere."
            )
    recode = _banded(column, [edge], list(labels), values, name, upper, "categorical")
    base = Base(0, "the lower side of the split", chosen=True)
    return replace(recode, column=replace(recode.column, base=base))


def check_cuttable(column: Column, name: str) -> None:
    """Refuse a column that cannot be cut into bands under a name, with the reason."""
    if column.is_categorical:
        raise ColumnError(
            f"`{column.name}` is categorical, so there is nothing to cut; `merge_levels` puts levels together."
        )
    if name == column.name:
        raise ColumnError(f"Give the new group a name of its own: `{name}` is the numeric column it is made of.")
    if column.fault:
        raise ColumnError(column.fault)


def band_names(points: Sequence[float], upper: bool) -> list[str]:
    """Write out the bands between rising edges; a value at an edge is in the band above it if `upper`."""
    texts = [plain(p, 12) for p in points]
    below, above = ("below", "and more") if upper else ("up to", "above")
    first = f"{below} {texts[0]}"
    last = f"{texts[-1]} {above}" if upper else f"{above} {texts[-1]}"
    middle = [f"{a} to below {b}" if upper else f"above {a} to {b}" for a, b in itertools.pairwise(texts)]
    return [first, *middle, last]


def _banded(
    column: Column,
    points: Sequence[float],
    names: Sequence[str],
    values: NDArray[np.int32],
    name: str,
    upper: bool,
    kind: Kind,
) -> Recode:
    new = Column(
        name=name,
        kind=kind,
        values=values,
        levels=tuple(Level(label, label) for label in names),
        label=f"{column.label or column.name}, in bands"
        if kind == "ordinal"
        else f"{column.label or column.name}, in two",
        made=Made("cut", (column.name,), (column,)),
    )
    new = with_default_base(with_missing(new, column))
    notes = []
    empty = [names[k] for k in range(len(names)) if not new.counts[k]]
    if empty:
        notes.append(f"no row falls into {listed(quoted(empty), 'or')}")
    edges = [column.values == p for p in points]
    learn(masks=edges)
    at = [(p, int(np.sum(edge))) for p, edge in zip(points, edges, strict=True)]
    side = "above it" if upper else "below it"
    told = [f"{count} at {plain(p, 12)}" for p, count in at if count]
    notes.append(
        f"a value at an edge goes to the band {side}" + (f" ({', '.join(told)})" if told else " (none is there)")
    )
    notes += _specifications(column, points, upper)
    counts = ", ".join(f"`{names[k]}` ({new.counts[k]:,})" for k in range(len(names)))
    text = f"Cut `{column.name}` into {len(names)} levels as `{name}`: {counts} ({'; '.join(notes)})."
    return Recode(new, old_by_new(column, new, tuple(notes)), text)


def _specifications(column: Column, points: Sequence[float], upper: bool) -> list[str]:
    """Say how many rows would change sides if an edge moved by one observed value; of parts, where values are few enough to count."""
    if isinstance(column.values, InParts) and column.values.facts.distinct is None:
        return []
    distinct, counts = np.unique(column.values[column.present], return_counts=True)
    notes = []
    for p in points:
        k = int(np.searchsorted(distinct, p, side="left" if upper else "right"))  # the first value on the upper side
        down, up = (int(counts[k - 1]) if k > 0 else 0), (int(counts[k]) if k < len(distinct) else 0)
        most = max(down, up)
        if most >= 0.05 * column.valid:
            notes.append(
                f"sensitive at {plain(p, 12)}: one value lower, {down:,} rows ({100 * down / column.valid:.0f}%) would change "
                f"sides; one higher, {up:,} ({100 * up / column.valid:.0f}%)"
            )
    return notes


def few_values(values: NDArray[np.float64], most: int) -> list[float]:
    """Return all distinct values in order if they are no more than `most`, otherwise the first ones met; NaN is none."""
    if isinstance(values, InParts):
        known = values.facts.distinct
        return [float(v) for v in (np.unique(values.kept) if known is None else known[0])[:most] if v == v]
    values = values[~np.isnan(values)]
    found: list[float] = []
    while len(values) and len(found) < most:
        found.append(float(values[0]))
        values = values[values != values[0]]
    return sorted(found)


def event_column(column: Column, event: object, name: str, labels: Sequence[str] | None) -> Column:
    """Make a two-level group of which one level is the event, and what is not the event the base.

    The event is a level or value, or a list of several, of a group or a numeric column with few values. The name stays for
    a two-level group whose event is only named. `labels` are those of what is not the event, and of the event.
    """
    members = list(event) if isinstance(event, (list, tuple)) else [event]
    if not members:
        raise LevelError(f"Name at least one value of `{column.name}` as the event.")
    if column.is_categorical:
        places = [column.level_at(m) for m in members]
        here = np.isin(column.values, places)
        inside = [column.levels[k] for k in places]
        outside = [v for k, v in enumerate(column.levels) if k not in places and column.counts[k]]
    else:
        try:
            wanted = [float(str(m)) for m in members]
        except (TypeError, ValueError):
            raise LevelError(
                f"`{column.name}` is numeric, so its event is a number or a list of numbers, not {event!r}."
            ) from None
        here = any_of([column.values == m for m in wanted])
        inside = [Level(plain(m, 12), plain(m, 12)) for m in wanted]
        others = [v for v in few_values(column.values, 20 + len(wanted)) if v not in wanted][:20]
        outside = [Level(plain(v, 12), plain(v, 12)) for v in others]
    if not here.any() or not outside:
        raise LevelError(
            f"{'No' if not here.any() else 'Every'} row of `{column.name}` is {listed(quoted([v.label for v in inside]), 'or')}, "
            f"so there is no event to explain; name a level that some rows have."
        )
    if name == column.name and len(inside) + len(outside) > 2:
        raise ColumnError(f"`{name}` has more than two levels; give the two-level group a name of its own.")
    texts = [_label(outside, inside), _label(inside, outside)] if labels is None else [str(v) for v in labels]
    if len(texts) != 2 or texts[0] == texts[1]:
        raise LevelError(f"A yes/no outcome needs two labels, the event last, not {labels!r}.")
    groups = (outside, inside)
    levels = tuple(
        Level(
            group[0].code if len(group) == 1 and name == column.name else text,
            text,
            True,
            tuple(v.label for v in group) if len(group) > 1 else (),
        )
        for group, text in zip(groups, texts, strict=True)
    )
    values = np.where(column.present, here.astype(np.int32), np.int32(-1))
    new = Column(
        name=name,
        kind="categorical",
        values=values,
        levels=levels,
        base=Base(0, f"what is not the event `{texts[1]}`", chosen=True),
        event=1,
        label=column.label,
        made=Made("event", (column.name,), (column,)) if name != column.name else column.made,
    )
    return with_missing(new, column)


def make_event(column: Column, event: object, name: str, labels: Sequence[str] | None) -> Recode:
    """Return what `event_column` returns, verified."""
    new = event_column(column, event, name, labels)
    levels, texts = new.levels, [v.label for v in new.levels]
    here = new.values == 1
    notes = [f"`{v.label}` is a mixture of {listed(quoted(v.mixture))}" for v in levels if v.mixture]
    if texts[1].casefold() in ("0", "false", "no", "none", "never", "not"):
        notes.append(f"the event is `{texts[1]}`: is that the side you mean to explain?")
    text = (
        f"The event of `{name}` is `{texts[1]}`: {int(here.sum()):,} of {column.valid:,} rows; the rest is `{texts[0]}`"
    )
    return Recode(new, old_by_new(column, new, tuple(notes)), text + (f" ({'; '.join(notes)})." if notes else "."))


def _label(group: Sequence[Level], other: Sequence[Level]) -> str:
    if len(group) == 1:
        return group[0].label
    return f"not {other[0].label}" if len(other) == 1 else " or ".join(v.label for v in group[:3])
