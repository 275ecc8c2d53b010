"""Reading a text file whole, or saying in one sentence why not."""

from __future__ import annotations

import codecs
from pathlib import Path

from markbase.core.errors import FileError, near


def read_bytes(path: Path) -> bytes:
    """Read a file.

    Parameters
    ----------
    path : Path
        The file.

    Returns
    -------
    bytes
        Its contents.

    Raises
    ------
    FileError
        If there is no such file, or it cannot be read.
    """
    if path.is_dir():
        raise FileError(f"`{path}` is a folder; name the file in it.")
    try:
        return path.read_bytes()
    except FileNotFoundError:
        beside = [p.name for p in path.parent.iterdir() if p.is_file()] if path.parent.is_dir() else []
        close = near(path.name, beside) if beside else ""
        raise FileError(f"There is no file `{path}`.{close if close.startswith(' Did') else ''}") from None
    except OSError as problem:
        raise FileError(f"`{path}` cannot be read: {(problem.strerror or 'unknown reason').lower()}.") from None


def read_text(path: Path, encoding: str = "utf-8") -> str:
    """Read a text file.

    Parameters
    ----------
    path : Path
        The file.
    encoding : str
        How its bytes stand for characters; a byte order mark is taken off.

    Returns
    -------
    str
        The text.

    Raises
    ------
    FileError
        If there is no such file, it cannot be read, is empty, is no text, or is not so encoded.
    """
    try:
        codecs.lookup(encoding)
    except LookupError:
        raise FileError(f"There is no encoding `{encoding}`; `utf-8`, `cp1252` and `latin-1` are common.") from None
    raw = read_bytes(path)
    try:
        text = raw.decode("utf-8-sig" if encoding.lower().replace("_", "-") in ("utf-8", "utf8") else encoding)
    except UnicodeDecodeError as problem:
        line = raw.count(b"\n", 0, problem.start) + 1
        raise FileError(
            f"`{path}` is not {encoding} text: byte 0x{raw[problem.start]:02x} in line {line} has no meaning there; save it as "
            f"UTF-8, or give its encoding (`cp1252` is common for older spreadsheets)."
        ) from None
    if "\0" in text:
        raise FileError(f"`{path}` holds zero bytes, so it is no text file; export it as CSV and open that.")
    if not text.strip():
        raise FileError(f"`{path}` is empty; a line with the column names and a line for each row are needed.")
    return text.replace("\r\n", "\n").replace("\r", "\n")
