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
