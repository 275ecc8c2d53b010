"""Packed files that are the same to the last byte whenever they are made."""

from __future__ import annotations

import datetime
import io
import zipfile
from collections.abc import Callable

FIXED = datetime.datetime(2000, 1, 1, tzinfo=datetime.UTC)
"""When all documents say that they were made."""
_PACKED = (1980, 1, 1, 0, 0, 0)


def undated(content: bytes, changed: Callable[[str, bytes], bytes] = lambda _, part: part) -> bytes:
    """Return a zip file with the times of its parts set to one and the same; `changed` returns what a part of a name holds then."""
    buffer = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(content)) as old, zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as new:
        for name in old.namelist():
            part = zipfile.ZipInfo(name, _PACKED)
            part.compress_type = zipfile.ZIP_DEFLATED
            new.writestr(part, changed(name, old.read(name)))
    return buffer.getvalue()
