"""By which columns rows were drawn, measured or treated together."""

from __future__ import annotations

from typing import NamedTuple

from markbase.core.study.column import Column


class DrawnBy(NamedTuple):
    """The columns that errors allow for."""

    cluster: Column | None = None
    """The column of the clusters; None for none."""
    crossed: Column | None = None
    """A second one, whose clusters cut through those of the first; None for none."""
    strata: Column | None = None
    """The column of the strata within which clusters, or rows, were drawn; None for none."""
    time: Column | None = None
    """The column of the periods, its levels in the order of time, that rows of one, or of some in a row, go together by; None for none."""

    @property
    def clusters(self) -> tuple[Column, ...]:
        """The columns of clusters: none, one or two."""
        return tuple(column for column in self[:2] if column is not None)

    @property
    def columns(self) -> tuple[Column, ...]:
        """All of them."""
        return tuple(column for column in self if column is not None)
