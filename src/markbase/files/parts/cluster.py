"""Rows that are read, and computed with, by the workers of a Dask cluster.

Every piece of the data is a task of its own: a worker reads it, applies the function to its parts, and returns what that leaves behind.
Results are taken in the order of the pieces, each once; a piece whose worker is lost is taken again by another.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, TypeVar

import numpy as np

from markbase.core.errors import FileError
from markbase.core.rows.source import PART_ROWS, Part, RowSource
from markbase.core.rows.table import KeptRows, TableInParts
from markbase.core.study.codebook import Codebook
from markbase.files.parts.files_in_parts import part_of, placed
from markbase.files.parts.first_look import (
    PLACE_BITS,
    Look,
    Progress,
    columns_to_look_at,
    looked_twice,
    table_of_look,
)
from markbase.files.parts.found_columns import Numbers, Texts
from markbase.files.parts.table_files import Piece, TableFiles, plain_words

if TYPE_CHECKING:
    import pyarrow as pa

T = TypeVar("T")
_WAIT_SECONDS = 5


@dataclass(frozen=True)
class FramePiece:
    """A partition of a table that is spread over a cluster."""

    frame: Any
    """The partition: on a worker a pandas DataFrame, elsewhere the task that makes it."""
    written: bool = False
    """Whether every cell is a text."""

    def batches(self, names: Sequence[str], as_text: Collection[str]) -> Iterator[pa.RecordBatch]:  # noqa: ARG002
        """Yield the rows, at most `PART_ROWS` at a time."""
        import pyarrow as pa

        columns = [pa.Array.from_pandas(self.frame.iloc[:, self._place(name)]) for name in names]
        whole = pa.RecordBatch.from_arrays(columns, names=list(names))
        for at in range(0, len(self.frame), PART_ROWS):
            yield whole.slice(at, PART_ROWS)

    def _place(self, name: str) -> int:
        return [str(column) for column in self.frame.columns].index(name)


@dataclass(frozen=True)
class Cluster:
    """A scheduler, and what it is asked to do."""

    address: str
    """Where it is; empty for the one that is connected to already."""

    @contextmanager
    def connected(self) -> Iterator[Any]:
        """Connect meanwhile; a connection to this scheduler that is there already is used, and stays."""
        try:
            from distributed import Client, get_client
            from distributed.comm.addressing import parse_address, parse_host_port
        except ImportError:
            raise FileError(
                "A cluster needs the package dask[distributed], which is not installed; python -m pip install 'dask[distributed]' adds it."
            ) from None
        try:
            known = get_client()
        except ValueError:
            known = None
        if known is not None and self.address in ("", getattr(known.scheduler, "address", "")):
            yield known
            return
        try:
            scheme, place = parse_address(self.address)
            if scheme in ("tcp", "tls"):
                parse_host_port(place)  # a client of no address would wait before it ends
            client = Client(self.address, timeout=_WAIT_SECONDS, set_as_default=False)  # type: ignore[no-untyped-call]
        except (OSError, ValueError, TimeoutError) as problem:
            raise FileError(
                f"The cluster at `{self.address}` does not answer ({plain_words(problem)}); start its scheduler, or correct the address."
            ) from None
        with client:
            yield client

    def each(self, function: Callable[..., T], pieces: Sequence[Piece], *more: Sequence[Any]) -> Iterator[T]:
        """Apply a function to every piece on the workers, and yield what it returns in the order of the pieces."""
        from distributed import CancelledError, KilledWorker

        with self.connected() as client:
            tasks = [
                client.submit(_on_frame, function, piece.frame, *rest, pure=False)
                if isinstance(piece, FramePiece)
                else client.submit(function, piece, *rest, pure=False)
                for piece, *rest in zip(pieces, *more, strict=True)
            ]
            try:
                for k, task in enumerate(tasks):
                    yield task.result()
                    tasks[k] = None
            except (KilledWorker, CancelledError, OSError, TimeoutError) as problem:
                raise FileError(
                    f"The workers of the cluster were lost, more than once: {plain_words(problem)}."
                ) from None
            finally:
                client.cancel([task for task in tasks if task is not None])


def _on_frame(function: Callable[..., T], frame: Any, *more: Any) -> T:
    return function(FramePiece(frame), *more)


@dataclass(frozen=True)
class _Look:
    """Looks over a piece."""

    columns: Mapping[str, bool]
    """The columns, and whether each is looked at as numbers."""

    width: int
    """How many columns there are in all."""

    def __call__(self, piece: Piece, place: int) -> Look:
        columns = {name: (Numbers if numeric else Texts)(piece.written) for name, numeric in self.columns.items()}
        return Look(columns, KeptRows(self.width)).over_piece(piece, place=place)


@dataclass(frozen=True)
class _Run:
    """Applies a function to a piece, which is one part for it: the fewer results there are, the less has to travel."""

    function: Callable[[Part], Any]
    """The function."""
    names: tuple[str, ...]
    """The columns it is given."""
    texts: Mapping[str, pa.Array]
    """The distinct values of those that are told by them."""
    written: frozenset[str]
    """All columns of the pieces that are told by their distinct values: in a text file, the others are read as numbers."""

    def __call__(self, piece: Piece, start: int) -> list[Any]:
        batches = placed(piece.batches(self.names, self.written), start)
        parts = [part_of(given, self.names, self.texts, piece.written) for given in batches]
        if not parts:
            return []  # a piece without rows
        columns = {n: np.concatenate([part.columns[n] for part in parts]) for n in self.names}
        return [self.function(Part(start, sum(part.rows for part in parts), columns))]


@dataclass(frozen=True, kw_only=True)
class ClusterInParts(RowSource):
    """The rows of pieces that workers read."""

    cluster: Cluster
    """Where the workers are."""
    pieces: tuple[Piece, ...]
    """The pieces, in the order of their rows."""
    starts: tuple[int, ...]
    """How many rows come before each."""
    texts: Mapping[str, pa.Array]
    """The distinct values of each column that is told by them."""

    def run(self, function: Callable[[Part], T], names: Sequence[str]) -> Iterator[T]:
        """Apply a function to every part, on the workers, and yield the results in order."""
        own = {name: self.texts[name] for name in names if name in self.texts}
        for results in self.cluster.each(
            _Run(function, tuple(names), own, frozenset(self.texts)), self.pieces, self.starts
        ):
            yield from results


def table_of_pieces(
    pieces: Sequence[Piece],
    types: Mapping[str, bool],
    book: Codebook,
    told: str,
    cluster: Cluster,
    progress: Progress | None,
) -> TableInParts:
    """Look once over pieces that the workers of a cluster read; the result is as that of `table_of_files`."""
    starts: list[int] = []

    def look(columns: Mapping[str, Numbers | Texts]) -> Look:
        whole: Look | None = None
        starts.clear()
        wanted = _Look({name: isinstance(found, Numbers) for name, found in columns.items()}, len(types))
        for found in cluster.each(wanted, pieces, [k << PLACE_BITS for k in range(len(pieces))]):
            starts.append(0 if whole is None else whole.rows)
            if whole is None:
                whole = Look(dict(columns), KeptRows(len(types)))
            whole.merge(found)
            if progress is not None:
                progress(whole.rows, None)
        return whole or Look(dict(columns))

    found = looked_twice(columns_to_look_at(types, book, any(piece.written for piece in pieces)), look)

    def source(texts: Mapping[str, pa.Array], rows: int, kept: Part) -> RowSource:
        return ClusterInParts(
            name=told, rows=rows, kept=kept, cluster=cluster, pieces=tuple(pieces), starts=tuple(starts), texts=texts
        )

    return table_of_look(found, source)


def table_of_files_on_cluster(
    table: TableFiles, types: Mapping[str, bool], book: Codebook, address: str, progress: Progress | None
) -> TableInParts:
    """Look once over files that the workers of a cluster read a part at a time."""
    return table_of_pieces(table.pieces(), types, book, table.told, Cluster(address), progress)


def table_of_spread_frame(frame: Any, book: Codebook, told: str) -> TableInParts:
    """Look once over a Dask DataFrame, whose partitions are the pieces."""
    types = {str(name): _may_be_numbers(dtype) for name, dtype in frame.dtypes.items()}
    with Cluster("").connected() as client:
        pieces = [FramePiece(part) for part in client.compute(frame.to_delayed())]
    return table_of_pieces(pieces, types, book, told, Cluster(""), None)


def _may_be_numbers(dtype: Any) -> bool:
    import pandas as pd

    return dtype.kind == "m" or (pd.api.types.is_numeric_dtype(dtype) and not pd.api.types.is_bool_dtype(dtype))
