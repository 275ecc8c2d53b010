"""Tables that are spread over a cluster: who looks them over stands in a room above, and the package hands over a loader."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from markbase.core.rows.table import TableInParts

Look = Callable[[Any, Any, str], "TableInParts"]
"""Takes a spread table, a codebook and what the data are called."""

_loader: Callable[[], Look] | None = None


def set_spread_look(loader: Callable[[], Look]) -> None:
    """Say where the look over spread tables comes from; called without arguments when there is one."""
    global _loader
    _loader = loader


def is_spread(table: object) -> bool:
    """Return whether a table is one of Dask: partitions that are made on the workers of a cluster."""
    return hasattr(table, "to_delayed") and hasattr(table, "dask")


def table_of_spread(table: object, codebook: object, name: str) -> TableInParts:
    """Look over a table that is spread over a cluster."""
    if _loader is None:
        raise RuntimeError("no look is set; import markbase")  # a defect of ours: the package sets it
    return _loader()(table, codebook, name)
