"""Writing files whole or not at all."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path

from markbase.core.errors import FileError


def write_whole(path: Path, content: bytes) -> None:
    """Write a file so that it appears whole or not at all.

    Parameters
    ----------
    path : Path
        The file; its folder is made if need be.
    content : bytes
        What to write.

    Raises
    ------
    FileError
        If it cannot be written; what was there before stays.
    """
    temporary = ""
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        handle, temporary = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent)
        with os.fdopen(handle, "wb") as stream:
            stream.write(content)
        mask = os.umask(0)
        os.umask(mask)
        Path(temporary).chmod(0o666 & ~mask)
        Path(temporary).replace(path)
    except OSError as problem:
        if temporary:
            Path(temporary).unlink(missing_ok=True)
        raise FileError(f"`{path}` cannot be written: {(problem.strerror or 'unknown reason').lower()}.") from None


def refuse_to_replace(path: Path, replace: bool) -> None:
    """Stop before a file is written over that nobody said may be.

    Parameters
    ----------
    path : Path
        The file to be written.
    replace : bool
        Whether it may be written over.

    Raises
    ------
    FileError
        If it is there and may not be written over, or is a folder.
    """
    if path.is_dir():
        raise FileError(f"`{path}` is a folder; name a file in it.")
    if path.exists() and not replace:
        raise FileError(
            f"`{path}` is there already and was not written over; name another file, or say replace (--replace)."
        )
