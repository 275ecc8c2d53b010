"""Writing files whole or not at all, and never over what was read. Everything that is written goes through here."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager, suppress
from contextvars import ContextVar
from pathlib import Path
from typing import IO

from markbase.core.errors import FileError, ThereAlreadyError

_inputs: ContextVar[set[Path] | None] = ContextVar("inputs", default=None)


Content = bytes | Callable[[IO[bytes]], None]
"""What a file holds, or what writes it into an open one."""


@contextmanager
def protecting_inputs() -> Iterator[None]:
    """Refuse, meanwhile, to write over any file that was read: an input is never overwritten, whatever was agreed to."""
    token = _inputs.set(set())
    try:
        yield
    finally:
        _inputs.reset(token)


def note_input(path: Path) -> None:
    """Remember a file that was read."""
    known = _inputs.get()
    if known is not None:
        known.add(path.resolve())


def write_whole(path: Path, content: Content) -> None:
    """Write a file so that it appears whole or not at all; raises as `write_all`."""
    write_all({path: content})


def write_all(contents: Mapping[Path, Content]) -> None:
    """Write files so that all of them appear, whole, or none does; folders are made if need be.

    A content is bytes, or what writes it into an open file. Raises a `FileError` if one cannot be written, or was read by
    the same command; what was there before stays, in all of them.
    """
    for path in contents:
        _refuse_input(path)
    beside: dict[Path, Path] = {}  # where each waits
    kept: dict[Path, Path | None] = {}  # what was there before
    made: list[Path] = []
    path = next(iter(contents), Path())
    try:
        for path, content in contents.items():
            made += _make_folder(path.parent)
            beside[path] = _beside(path, content)
        for path, waiting in beside.items():
            kept[path] = _set_aside(path)
            waiting.replace(path)
    except BaseException as problem:
        for done, before in kept.items():
            if before is not None:
                before.replace(done)
            elif done.is_file():
                done.unlink()
        for waiting in beside.values():
            waiting.unlink(missing_ok=True)
        for folder in reversed(made):
            with suppress(OSError):
                folder.rmdir()
        if isinstance(problem, OSError):
            reason = (problem.strerror or "unknown reason").lower()
            more = ", and nothing else was written" if len(contents) > 1 else ""
            raise FileError(f"`{path}` cannot be written: {reason}{more}.") from None
        if isinstance(problem, ValueError):
            raise FileError(
                f"`{str(path)!r}` is no name of a file; it holds a character that no name can hold."
            ) from None
        raise
    for before in kept.values():
        if before is not None:
            before.unlink(missing_ok=True)


def _make_folder(folder: Path) -> list[Path]:
    """Make a folder with those above it; return the ones that were not there, the uppermost first."""
    missing = [p for p in (folder, *folder.parents) if not p.exists()]
    folder.mkdir(parents=True, exist_ok=True)
    return missing[::-1]


def _beside(path: Path, content: Content) -> Path:
    """Write what belongs into a file beside it."""
    handle, name = tempfile.mkstemp(prefix=".markbase.", dir=path.parent)
    waiting = Path(name)
    try:
        with os.fdopen(handle, "wb") as stream:
            if isinstance(content, bytes):
                stream.write(content)
            else:
                content(stream)
        mask = os.umask(0)
        os.umask(mask)
        waiting.chmod(0o666 & ~mask)
    except BaseException:
        waiting.unlink(missing_ok=True)
        raise
    return waiting


def _set_aside(path: Path) -> Path | None:
    """Give a file that is there another name, so that it can be put back; None for none."""
    if not path.exists():
        return None
    if path.is_dir():
        raise IsADirectoryError(21, "is a folder")
    handle, name = tempfile.mkstemp(prefix=".markbase.", dir=path.parent)
    os.close(handle)
    return path.replace(name)


def _refuse_input(path: Path) -> None:
    known = _inputs.get()
    if known is not None and path.resolve() in known:
        raise FileError(f"`{path}` was read by this command, and an input is never written over; name another file.")


def refuse_to_replace(path: Path, replace: bool) -> None:
    """Stop before a file is written over that nobody said may be, or that was read by the same command."""
    _refuse_input(path)
    try:
        is_folder, there = path.is_dir(), path.exists()
    except (OSError, ValueError) as problem:
        reason = (getattr(problem, "strerror", "") or "no name of a file").lower()
        raise FileError(f"`{str(path)!r}` cannot be written: {reason}.") from None
    if is_folder:
        raise FileError(f"`{path}` is a folder; name a file in it.")
    if there and not replace:
        raise ThereAlreadyError(
            f"`{path}` is there already and was not written over; name another file, or agree that this one is replaced."
        )
