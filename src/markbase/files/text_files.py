"""Reading a text file whole, or saying in one sentence why not."""

from __future__ import annotations

import codecs
import os
import re
import sys
import tomllib
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from markbase.core.errors import FileError, MarkbaseError, NoRoomError, near
from markbase.files.whole_files import note_input


class NoRowsError(FileError):
    """A file has the names of columns, and no rows."""

    def __init__(self, message: str, names: Sequence[str] = ()) -> None:
        super().__init__(message)
        self.names = list(names)


STANDARD = Path("-")
"""What stands for standard input, or standard output, in the place of a file."""
MOST_DEPTH, MOST_TABLES = 40, 20_000
"""How deep a plan or a codebook may be nested, and how many tables and lists it may have."""


def read_bytes(path: Path) -> bytes:
    """Return the contents of a file, or of standard input for ``-``."""
    if path == STANDARD:
        return _standard_input()
    try:
        if path.is_dir():
            raise FileError(f"`{path}` is a folder; name the file in it.")
        if path.exists() and not path.is_file():
            raise FileError(
                f"`{path}` is a pipe or a device and no file; write its contents into a file, and open that."
            )
        content = path.read_bytes()
    except FileError:
        raise
    except FileNotFoundError:
        beside = [p.name for p in path.parent.iterdir() if p.is_file()] if path.parent.is_dir() else []
        close = near(path.name, beside) if beside else ""
        raise FileError(f"There is no file `{path}`.{close if close.startswith(' Did') else ''}") from None
    except OSError as problem:
        raise FileError(f"`{path}` cannot be read: {(problem.strerror or 'unknown reason').lower()}.") from None
    except ValueError:
        raise FileError(f"`{str(path)!r}` is no name of a file; it holds a character that no name can hold.") from None
    except MemoryError:
        raise no_room(path) from None
    note_input(path)
    return content


def no_room(path: Path) -> NoRoomError:
    """Return what is said of a file that does not fit into memory."""
    return NoRoomError(f"`{path}` is larger than the memory that is free; keep fewer columns or rows of it.")


def _standard_input() -> bytes:
    if sys.stdin is None or sys.stdin.isatty():
        raise FileError("`-` reads standard input, and nothing is piped into it; pipe a table in, or name a file.")
    content = sys.stdin.buffer.read()
    if not content:
        raise FileError("Standard input is empty; a line with the column names and a line for each row are needed.")
    return content


def read_toml(path: Path, error: type[MarkbaseError] = MarkbaseError) -> tuple[dict[str, Any], str]:
    """Read a TOML file, and return what it says beside its text.

    Raises an `error` if it is not TOML, is nested deeper than is read, or holds a number that cannot be written.
    """
    text = read_text(path)
    return parsed_toml(text, f"`{path}`", error), text


def parsed_toml(text: str, what: str, error: type[MarkbaseError] = MarkbaseError) -> dict[str, Any]:
    """Read TOML; `what` is what it is called in messages."""
    if max(map(len, re.findall(r"[\[{]+", text)), default=0) > MOST_DEPTH or text.count("[") > MOST_TABLES:
        raise error(
            f"{what} is nested deeper than {MOST_DEPTH} tables or has more than {MOST_TABLES:,} of them, which is not read."
        )
    try:
        return tomllib.loads(text)
    except tomllib.TOMLDecodeError as problem:
        raise error(f"{what} is not TOML: {str(problem)[0].lower() + str(problem)[1:]}.") from None
    except RecursionError:
        raise error(f"{what} is nested deeper than is read; a plan or a codebook needs a few tables only.") from None
    except ValueError:
        raise error(f"{what} holds a whole number of more digits than can be read; write it with fewer.") from None


def read_text(path: Path, encoding: str = "utf-8") -> str:
    """Read a text file; a byte order mark is taken off.

    Raises a `FileError` if it cannot be read, is empty, is no text, or is not so encoded.
    """
    try:
        known = getattr(codecs.lookup(encoding), "_is_text_encoding", True)  # some only turn bytes into bytes
    except (LookupError, ValueError):
        known = False
    if not known:
        raise FileError(f"There is no encoding `{encoding}`; `utf-8`, `cp1252` and `latin-1` are common.")
    raw = read_bytes(path)
    try:
        text = raw.decode("utf-8-sig" if encoding.lower().replace("_", "-") in ("utf-8", "utf8") else encoding)
    except UnicodeDecodeError as problem:
        line = raw.count(b"\n", 0, problem.start) + 1
        raise FileError(
            f"`{path}` is not {encoding} text: byte 0x{raw[problem.start]:02x} in line {line} has no meaning there; save it as "
            f"UTF-8, or give its encoding (`cp1252` is common for older spreadsheets)."
        ) from None
    except (UnicodeError, LookupError, ValueError, RecursionError):
        raise FileError(
            f"`{path}` is not {encoding} text; `utf-8`, `cp1252` and `latin-1` are common encodings."
        ) from None
    if "\0" in text:
        raise FileError(f"`{path}` holds zero bytes, so it is no text file; export it as CSV and open that.")
    if not text.strip():
        raise FileError(f"`{path}` is empty; a line with the column names and a line for each row are needed.")
    return text.replace("\r\n", "\n").replace("\r", "\n")


def seen_from(path: Path, folder: Path) -> str:
    """Return a path as seen from a folder."""
    return Path(os.path.relpath(path.resolve(), folder.resolve())).as_posix()
