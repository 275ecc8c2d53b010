"""Codebooks in TOML."""

from __future__ import annotations

import tomllib
from pathlib import Path

from markbase.core.errors import CodebookError
from markbase.core.study.codebook import Codebook
from markbase.files.reading import read_text


def read_codebook(path: str | Path) -> Codebook:
    """Read a codebook from a TOML file.

    Parameters
    ----------
    path : str or Path
        The file: an optional ``title``, and a table ``[columns.NAME]`` for each column described,
        with any of ``label``, ``kind``, ``role``, ``unit``, ``levels``, ``missing``, ``base``.

    Returns
    -------
    Codebook
        The codebook, checked.

    Raises
    ------
    FileError
        If the file cannot be read.
    CodebookError
        If it is not TOML, or says something a codebook cannot say.
    """
    path = Path(path)
    text = read_text(path)
    try:
        mapping = tomllib.loads(text)
    except tomllib.TOMLDecodeError as problem:
        raise CodebookError(f"`{path}` is not TOML: {str(problem)[0].lower() + str(problem)[1:]}.") from None
    return Codebook.from_mapping(mapping, source=path.name)
